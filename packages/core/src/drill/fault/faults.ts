import { STAGED } from '../../sessions/database-words.js'
import { FAULT_KINDS, type FaultKind } from '@ledgerman/contract'
import { isWrite, type PlannedStep } from '../../plan/plan.js'
import type { HookedSession, RunHooks } from '../../run/steps/run-request.js'
import type { Drilled, ObservedRow } from '../scratch/observe-run.js'
import type { ScratchDatabase } from '../scratch/scratch-database.js'
import { changeByOther, holdByOther, keyOf, removeByOther, type Interference } from './other-session.js'

/** One thing that goes wrong with a run, and how it is brought about for real. */
export interface Fault {
  name: string
  kind: FaultKind
  /** Which limits the run has, so that a fault shows soon. */
  limits: 'own' | 'short lock wait' | 'short time'
  /** Brings it about. `tell` is called with what somebody else did meanwhile. */
  stage(
    scratch: ScratchDatabase,
    tell: (done: Interference | undefined) => void,
  ): Promise<{ hooks?: RunHooks; end?: () => Promise<void> }>
}

const RAISE = `do $$ begin raise exception '${STAGED}' using errcode = 'P0001'; end $$`
const SLEEP = 'select pg_sleep(30)'
/** Of a run that ends before it comes to where the fault waits. */
const NOT_MET: Interference = { prevented: 'the run had ended', isByRun: false }

/**
 * The faults of these kinds that a run can meet.
 *
 * @param observed the rows that the run reads and writes where nobody disturbs it.
 */
export function faultsFor(drilled: Drilled, kinds: ReadonlySet<FaultKind>, observed: readonly ObservedRow[]): Fault[] {
  const { steps } = drilled.plan
  const all: Record<FaultKind, () => Fault[]> = {
    error: () => [
      ...steps.flatMap(({ no }) => [
        hooked('error', `error before step ${no}`, (met) => ({ beforeStep: atStep(no, met, raise) })),
        hooked('error', `error after step ${no}`, (met) => ({ afterStep: atStep(no, met, raise) })),
      ]),
      hooked('error', 'error before commit', (met) => ({
        async beforeCommit(session) {
          met()
          await raise(session)
        },
      })),
    ],
    connection: () => [
      ...steps.map(({ no }) =>
        hooked('connection', `connection dropped after step ${no}`, (met) => ({
          afterStep: atStep(no, met, (session) => session.breakOff()),
        })),
      ),
      hooked('connection', 'connection dropped before commit', (met) => ({
        async beforeCommit(session) {
          met()
          await session.breakOff()
        },
      })),
      hooked('connection', 'connection dropped during commit, before the server has it', (met) => ({
        commit(session) {
          met()
          session.breakOff()
          return session.query('commit')
        },
      })),
      hooked('connection', 'connection dropped during commit, before the answer', (met) => ({
        async commit(session) {
          met()
          await session.query('commit')
          session.breakOff()
          throw new Error('Connection terminated unexpectedly')
        },
      })),
    ],
    'time-limit': () =>
      steps.map(({ no }) => ({
        ...hooked('time-limit', `time limit at step ${no}`, (met) => ({
          beforeStep: atStep(no, met, (session) => session.query(SLEEP)),
        })),
        limits: 'short time' as const,
      })),
    'row-held': () => {
      const row = observed.find(({ step, before, mapping }) => locks(step, drilled) && before && mapping.key.length > 0)
      if (!row) return []
      const { sql, values } = keyOf(row)
      return [
        held(
          'row-held',
          `row held: ${describeRow(row)}`,
          `select 1 from ${row.mapping.table.sql} as t where ${sql} for update`,
          values,
        ),
      ]
    },
    'table-held': () => {
      const step = steps.find((each) => 'mapping' in each && each.mapping.table.kind !== 'view')
      if (!step || !('mapping' in step)) return []
      const { path, sql } = step.mapping.table
      return [held('table-held', `table held: ${path}`, `lock table ${sql} in access exclusive mode`, [])]
    },
    'row-changed': () => interferences('row-changed', 'changed'),
    'row-removed': () => interferences('row-removed', 'removed'),
  }
  return FAULT_KINDS.flatMap((kind) => (kinds.has(kind) ? all[kind]() : []))

  /** Somebody else changes, or removes, what was loaded before it is written. */
  function interferences(kind: 'row-changed' | 'row-removed', did: string): Fault[] {
    const written = observed.find(
      (row) =>
        isWrite(row.step) && row.before && observed.some((load) => load.step.no < row.step.no && isSameRow(load, row)),
    )
    if (!written || !isWrite(written.step)) return []
    const { set, no } = written.step
    // As soon as it was loaded: the longest time in which somebody else can come.
    const load = observed.find((row) => row.step.no < no && isSameRow(row, written))
    return [
      {
        name: `row ${did} by another after step ${load?.step.no}: ${describeRow(written)}`,
        kind,
        limits: 'short lock wait',
        stage: (scratch, tell) => {
          tell(NOT_MET)
          return Promise.resolve({
            hooks: {
              async afterStep(step) {
                if (step !== load?.step.no) return
                tell(
                  await (kind === 'row-changed'
                    ? changeByOther(scratch, written, set)
                    : removeByOther(scratch, written)),
                )
              },
            },
          })
        },
      },
    ]
  }
}

/** What is done to the run's own session at one place; `met` says that the run came there. */
function hooked(kind: FaultKind, name: string, hooks: (met: () => void) => RunHooks): Fault {
  return {
    name,
    kind,
    limits: 'own',
    stage(_scratch, tell) {
      tell(NOT_MET)
      return Promise.resolve({ hooks: hooks(() => tell(undefined)) })
    },
  }
}

function atStep(
  no: number,
  met: () => void,
  act: (session: HookedSession) => unknown,
): NonNullable<RunHooks['beforeStep']> {
  return async (step, session) => {
    if (step !== no) return
    met()
    await act(session)
  }
}

const raise = (session: HookedSession) => session.query(RAISE)

function held(kind: FaultKind, name: string, lock: string, values: (string | null)[]): Fault {
  return {
    name,
    kind,
    limits: 'short lock wait',
    async stage(scratch) {
      const { release } = await holdByOther(scratch, lock, values)
      return { end: release }
    },
  }
}

function locks(step: PlannedStep, { plan }: Drilled): boolean {
  const definition = plan.definition.steps[step.no - 1] ?? {}
  return isWrite(step) || ('lock' in definition && definition.lock !== 'none')
}

function isSameRow(one: ObservedRow, other: ObservedRow): boolean {
  if (one.mapping.table !== other.mapping.table || !one.before || !other.before) return false
  return describeRow(one) === describeRow(other) && one.mapping.key.length > 0
}

function describeRow({ mapping, before }: ObservedRow): string {
  return `${mapping.name} ${mapping.key.map((property) => before?.[mapping.properties.indexOf(property)] ?? '').join(', ')}`
}
