import { LedgermanProblem, type RecordValues, type StepKind } from '@ledgerman/contract'
import { inRecord } from '../../mapping/in-record.js'
import type { KeyTexts, Mapping, Property } from '../../mapping/mapping.js'
import { toGuard } from '../../mapping/guard-value.js'
import { swallowers } from '../../mapping/side-writes.js'
import { brokenValues } from './broken-values.js'
import { describeKey } from './record-key.js'
import { shownRecord } from '../../mapping/record-row.js'

// What can go wrong with a change before PostgreSQL itself refuses it, in the mapping's words.

export function guardRequired(mapping: Mapping): LedgermanProblem {
  return new LedgermanProblem(
    'guard-required',
    `A record of ${mapping.name} is changed with the guard it was loaded with, so that nobody's change is overwritten unseen. Load it, and send its ETag as If-Match.`,
    { mapping: mapping.name },
  )
}

export function recordChanged(
  mapping: Mapping,
  step: Conflict,
  before: readonly (string | null)[],
  guard: string | null,
): LedgermanProblem {
  const open = mapping.properties.filter((property) => !property.sensitive)
  const current = shownRecord(
    open,
    open.map((property) => before[mapping.properties.indexOf(property)] ?? null),
  )
  const shown = (values: RecordValues) =>
    Object.fromEntries(Object.entries(values).filter(([name]) => !mapping.byName.get(name)?.sensitive))
  const yours = shown(step.yours)
  const unknown = Object.fromEntries(Object.keys(yours).map((name) => [name, null]))
  return new LedgermanProblem(
    'record-changed',
    `This ${mapping.name} is not as it was loaded. Nothing was changed; look at the current values, then load it again.`,
    {
      mapping: mapping.name,
      key: describeKey(mapping.key, step.key),
      yours,
      current,
      loaded: { ...unknown, ...shown(step.loaded) },
      // Null in loaded is a value only where it is not named here.
      unknown: Object.keys(yours).filter((name) => !(name in step.loaded)),
      guard: toGuard(mapping, guard),
      matched: 1,
    },
  )
}

interface Conflict {
  key: KeyTexts
  yours: RecordValues
  loaded: RecordValues
}

/**
 * @param row the record as it would be, where that is known: texts in the order of the mapping's properties.
 * @param key of the record that breaks it, where it is one of several.
 */
export function ruleBroken(
  mapping: Mapping,
  number: number,
  row?: readonly (string | null)[] | null,
  key?: RecordValues,
): LedgermanProblem {
  const rule = mapping.rules[number - 1]
  const words = rule?.otherwise ?? 'A rule of the mapping is broken.'
  return new LedgermanProblem('rule-broken', key ? inRecord(words, key) : words, {
    ...(key ? { key } : {}),
    mapping: mapping.name,
    rule: rule?.that,
    by: 'mapping',
    ...(rule && row ? { broken: brokenValues(mapping, rule, row) } : {}),
    matched: 1,
  })
}

export function keyMismatch(mapping: Mapping, { name }: Property): LedgermanProblem {
  return new LedgermanProblem(
    'request-invalid',
    `${name} in the body is not the one in the address. A replacement keeps its key.`,
    { where: name, mapping: mapping.name, properties: [name] },
  )
}

const NOT_WRITTEN: Partial<Record<StepKind, string>> = {
  add: 'should have been added, but was not',
  remove: 'was found and should have been removed, but was not',
}

export function rowNotWritten(mapping: Mapping, kind: StepKind): LedgermanProblem {
  const { name, table } = mapping
  const triggers = swallowers(mapping, kind)
  const causes = [
    ...triggers.map((trigger) => `the trigger ${trigger}`),
    ...(table.rowSecurity ? ['a row-level policy'] : []),
  ]
  // Many a table keeps its rows and marks them.
  const advice =
    kind === 'remove' && triggers.length > 0
      ? ' Where it marks records instead of removing them, change the property that marks them.'
      : ''
  return new LedgermanProblem(
    'row-not-written',
    `The ${name} ${NOT_WRITTEN[kind] ?? 'was found and should have been written, but was not'}${causes.length > 0 ? `; ${causes.join(' or ')} may be why` : ''}.${advice} Nothing was changed.`,
    {
      mapping: name,
      table: table.path,
      triggers,
      rowSecurity: table.rowSecurity,
      matched: 1,
    },
  )
}
