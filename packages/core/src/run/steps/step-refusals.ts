import { LedgermanProblem, type RecordValues } from '@ledgerman/contract'
import type { Mapping } from '../../mapping/mapping.js'
import type { Plan, PlannedStep, PlannedWrite, Words } from '../../plan/plan.js'
import type { Statement } from '../../statement/statement.js'
import { recordChanged } from '../record/change-problems.js'
import { recordFromTexts } from '../../mapping/record-row.js'
import { noneLeftOut } from './expectation.js'
import { loadedText, type RunState } from './run-state.js'

/** The problem for a record that is not as it was loaded, and its key. */
export function changedMeanwhile(
  { definition }: Plan,
  { loaded: all }: RunState,
  step: PlannedWrite,
  row: readonly (string | null)[],
  guard: string | null,
): { problem: LedgermanProblem; key: ReadonlyMap<string, string> } {
  const { mapping } = step
  const own = definition.steps[step.no - 1] as { values?: RecordValues; loaded?: RecordValues }
  const before = step.loadedName === null ? undefined : all.get(step.loadedName)
  const loaded =
    own.loaded ??
    (before
      ? recordFromTexts(
          mapping,
          step.set,
          step.set.map((property) => before.texts[mapping.properties.indexOf(property)] ?? null),
        )
      : {})
  const key = new Map(mapping.key.map((part) => [part.name, row[mapping.properties.indexOf(part)] ?? '']))
  const now = row.slice(0, mapping.properties.length)
  const problem = recordChanged(mapping, { key, yours: own.values ?? {}, loaded }, now, guard)
  return { problem: problem.with({ step: step.no }), key }
}

/** The problem for rows that a step needs and that `lockWait: skip` left out, since others hold them. */
export function heldByOthers(no: number, { name }: Mapping, leftOut: readonly RecordValues[]): LedgermanProblem {
  const keys = leftOut.slice(0, 5).map((key) => Object.values(key).join(', '))
  return new LedgermanProblem(
    'lock-timeout',
    `Step ${no}: ${keys.join(' · ')} of ${name} ${leftOut.length === 1 ? 'is' : 'are'} held by others, and lockWait: skip leaves out what is held. Nothing was changed; try again.`,
    { step: no, mapping: name, lockWaitMs: 0, leftOut: leftOut.slice(0, 100) },
  )
}

export function leavesNoneOut({ no, mapping }: PlannedWrite, matched: number): LedgermanProblem {
  return new LedgermanProblem('count-mismatch', `Step ${no}: ${noneLeftOut(mapping.name, matched)}`, {
    step: no,
    mapping: mapping.name,
    matched,
    everyRow: true,
  })
}

/** The problem for a rule of the transaction that does not hold, in its own words. */
export function requireBroken(
  plan: Plan,
  step: Extract<PlannedStep, { kind: 'require' }>,
  state: RunState,
): LedgermanProblem {
  return new LedgermanProblem('rule-broken', filled(step.otherwise, state, plan), {
    step: step.no,
    rule: step.judgement.source,
    by: 'transaction',
  })
}

function filled({ parts }: Words, state: RunState, { sensitiveParams }: Plan): string {
  return parts
    .map((part) => {
      if (typeof part === 'string') return part
      if ('parameter' in part)
        return sensitiveParams.has(part.parameter) ? '…' : (state.params.get(part.parameter) ?? 'null')
      const row = state.loaded.get(part.loaded)
      return row?.mapping.byName.get(part.property)?.sensitive
        ? '…'
        : (loadedText(state, part.loaded, part.property) ?? 'null')
    })
    .join('')
}

const IS_EQUAL = String.raw`(?:=|operator\((?:\w+|"(?:[^"]|"")*")\.=\))`

/** The key a step named, as its statement's binds have it. */
export function askedKey(
  { text }: Statement,
  binds: readonly (string | null)[],
  { key }: Pick<Mapping, 'key'>,
): RecordValues {
  const found = key.flatMap(({ name, column, sensitive }) => {
    const place = new RegExp(`t\\.${escapeForPattern(column.sql)} ${IS_EQUAL} \\$(\\d+)`).exec(text)?.[1]
    const bound = place === undefined ? undefined : binds[Number(place) - 1]
    return bound === undefined || bound === null || sensitive ? [] : [[name, bound] as const]
  })
  return Object.fromEntries(found)
}

function escapeForPattern(text: string): string {
  return text.replace(/[.*+?^${}()|[\]\\]/g, '\\$&')
}
