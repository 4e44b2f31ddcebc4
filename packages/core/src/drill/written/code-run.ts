import { LedgermanProblem } from '@ledgerman/contract'
import { emitCode, nameCode } from '../../code/emit-code.js'
import type { Target } from '../../target/target.js'
import { toArgument } from '../prove/arguments.js'
import type { ProofTools } from '../prove/proof-tools.js'
import type { Drilled } from '../scratch/observe-run.js'

/** How the written code is drilled: with entries in the book, or without. */
export type CodeForm = 'plain' | 'booked'

/** A drilled run as the code that is written for it. */
export interface CodeRun {
  drilled: Drilled
  form: CodeForm
  /** Runs it once on a pool of node-postgres, or on what stands for one. */
  call(pool: unknown): Promise<void>
}

/** What a caller of the written code was told. */
export interface CodeAnswer {
  /** `committed`, or the code of the refusal. */
  outcome: string
  detail: string | null
}

/**
 * Writes and compiles the code of a drilled transaction.
 *
 * @param isStepwise whether it goes step by step, so that each is seen; else as it does where nobody looks.
 * @throws LedgermanProblem request-invalid where what is drilled is no published transaction: code is written for these.
 */
export async function codeRunOf(
  target: Target,
  drilled: Drilled,
  form: CodeForm,
  tools: ProofTools,
  isStepwise: boolean,
): Promise<CodeRun> {
  const { plan, params, actor, what } = drilled
  if (plan.name === null)
    throw new LedgermanProblem(
      'request-invalid',
      `code: ${what} is no published transaction, and code is written for these only.`,
      { where: 'code' },
    )
  const subjects = { mappings: [], plans: [{ ...plan, name: plan.name }], finds: new Map() }
  const module = await tools.load(emitCode(subjects.mappings, subjects.plans, form === 'booked'))
  if (form === 'booked') {
    ;(module['configureBook'] as (settings: object) => void)({ actor, digestKey: target.digestKey })
    ;(module['runStepByStep'] as (isWanted: boolean) => void)(isStepwise)
  }
  const name = nameCode(subjects).transactions[0]?.names.fn ?? ''
  const run = module[name] as (pool: unknown, params: object) => Promise<unknown>
  const given = Object.fromEntries(
    Object.entries(params).map(([param, value]) => [param, toArgument(value, plan.params.get(param)?.type ?? null)]),
  )
  return { drilled, form, call: async (pool) => void (await run(pool, given)) }
}

/** What the caller of the code is told: its own errors by their codes, the database's by what they are. */
export async function answerOf(call: Promise<void>): Promise<CodeAnswer> {
  try {
    await call
    return { outcome: 'committed', detail: null }
  } catch (error) {
    const { code, message, severity } = error as { code?: unknown; message?: string; severity?: unknown }
    const detail = message ?? String(error)
    if (severity !== undefined) return { outcome: 'refused-by-database', detail }
    return { outcome: typeof code === 'string' && /^[a-z-]+$/.test(code) ? code : 'target-unavailable', detail }
  }
}

/** Whether a refusal of the code is that it was chosen to end a deadlock. */
export function isDeadlock(error: unknown): boolean {
  return ((error as { cause?: { code?: unknown } }).cause?.code ?? (error as { code?: unknown }).code) === '40P01'
}
