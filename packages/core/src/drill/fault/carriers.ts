import { isProblem } from '@ledgerman/contract'
import { runPlan } from '../../run/steps/run-plan.js'
import type { RunHooks } from '../../run/steps/run-request.js'
import type { ProofTools } from '../prove/proof-tools.js'
import type { Drilled } from '../scratch/observe-run.js'
import type { ScratchDatabase } from '../scratch/scratch-database.js'
import { answerOf, codeRunOf, type CodeForm, type CodeRun } from '../written/code-run.js'
import { hookedPool } from '../written/hooked-pool.js'
import type { Fault } from './faults.js'

/** What the caller of a run was told, and whether the book has it as committed; null where it is not booked at all. */
export interface Carried {
  outcome: string
  detail: string | null
  isBooked: boolean | null
}

/** Carries out a drilled run: the core does, or the code that is written for it. */
export interface Carrier {
  run(limits: Fault['limits'], hooks: RunHooks): Promise<Carried>
  end(): Promise<void>
}

/** @throws LedgermanProblem request-invalid where there is no code for it */
export async function carrierOf(
  scratch: ScratchDatabase,
  plans: Readonly<Record<Fault['limits'], Drilled>>,
  form: CodeForm | undefined,
  tools: ProofTools | undefined,
): Promise<Carrier> {
  if (form === undefined) return { run: (limits, hooks) => runByCore(scratch, plans[limits], hooks), end: nothing }
  if (!tools) throw new TypeError('written code is drilled with tools that compile it')
  const codes = new Map<Fault['limits'], CodeRun>()
  for (const limits of Object.keys(plans) as Fault['limits'][])
    codes.set(limits, await codeRunOf(scratch.target, plans[limits], form, tools, true))
  const { pool, end } = tools.pool(scratch.url)
  return { run: (limits, hooks) => runByCode(scratch, codes.get(limits) as CodeRun, pool, hooks), end }
}

async function runByCore(
  scratch: ScratchDatabase,
  { plan, params, actor }: Drilled,
  hooks: RunHooks,
): Promise<Carried> {
  let id = ''
  const told = await runPlan(scratch.target, plan, {
    mode: 'commit',
    actor,
    params,
    hooks,
    onBegin: (run) => (id = run.id),
  }).then(
    ({ receipt }) => ({ outcome: receipt.outcome as string, detail: null }),
    (error: unknown) => {
      if (!isProblem(error)) throw error
      return { outcome: error.code as string, detail: error.detail }
    },
  )
  const { rows } = await scratch.asKeeper(
    `select count(*) from ledgerman.entry where id = $1 and outcome = 'committed'`,
    [id],
  )
  return { ...told, isBooked: rows[0]?.[0] === '1' }
}

async function runByCode(scratch: ScratchDatabase, code: CodeRun, pool: unknown, hooks: RunHooks): Promise<Carried> {
  const before = await committedEntries(scratch)
  const told = await answerOf(code.call(hookedPool(pool, code.drilled.plan, hooks)))
  return { ...told, isBooked: code.form === 'plain' ? null : (await committedEntries(scratch)) > before }
}

async function committedEntries(scratch: ScratchDatabase): Promise<number> {
  const { rows } = await scratch.asKeeper(`select count(*) from ledgerman.entry where outcome = 'committed'`, [])
  return Number(rows[0]?.[0])
}

function nothing(): Promise<void> {
  return Promise.resolve()
}
