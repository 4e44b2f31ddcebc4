import {
  entryAddress,
  roundMs,
  type Outcome,
  type Receipt,
  type RowReceipt,
  type RunMode,
  type StepKind,
  type StepReceipt,
} from '@ledgerman/contract'

export interface RunHeader {
  id: string
  target: string
  mode: RunMode
  revision: number | null
  actor: string
  note: string | null
  startedAt: string
}

export function toReceipt(
  header: RunHeader,
  outcome: Outcome,
  durationMs: number | null,
  steps: StepReceipt[],
  reversible: Receipt['reversible'],
): Receipt {
  return {
    id: header.id,
    target: header.target,
    mode: header.mode,
    outcome,
    transaction: null,
    revision: header.revision,
    actor: header.actor,
    note: header.note,
    startedAt: header.startedAt,
    durationMs: durationMs === null ? null : roundMs(durationMs),
    attempts: 1,
    isolation: 'read committed',
    replayed: false,
    steps,
    rehearsal: null,
    entry: header.mode === 'rehearse' ? null : entryAddress(header.target, header.id),
    reversible,
  }
}

export interface StepOutcome {
  matched: number | null
  changed: number | null
  durationMs: number | null
  rows: RowReceipt[]
}

export function toStepReceipt(
  kind: StepKind,
  mapping: string,
  shown: Pick<StepReceipt, 'statement' | 'binds' | 'short'>,
  outcome: StepOutcome,
): StepReceipt {
  const durationMs = outcome.durationMs === null ? null : roundMs(outcome.durationMs)
  return { no: 1, kind, mapping, as: null, skipped: false, ...shown, expected: 'one', ...outcome, durationMs }
}
