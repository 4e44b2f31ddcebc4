import { LedgermanProblem, type Explained, type LoadedRecord } from '@ledgerman/contract'
import { explainStatement } from '../../target/explain-statement.js'
import type { KeyTexts, Mapping, Property } from '../../mapping/mapping.js'
import { buildLoad, buildSharedLoad } from '../../statement/build-load.js'
import { bindValues, type SlotSource, type Statement } from '../../statement/statement.js'
import type { Rows } from '../../sessions/queryable.js'
import type { Target } from '../../target/target.js'
import { describeKey } from './record-key.js'
import { recordFromTexts } from '../../mapping/record-row.js'
import { toGuard } from '../../mapping/guard-value.js'

interface Load {
  alone: Statement
  /** For callers who ask at the same time; undefined where each has to ask alone. */
  shared: Statement | undefined
}

const loads = new WeakMap<Mapping, Map<string, Load>>()

/**
 * Loads one record by its key.
 *
 * @param by the properties the key is of, where it is another unique one.
 * @throws LedgermanProblem no-such-record, record-ambiguous, value-invalid, target-unavailable
 */
export async function loadRecord(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  by: readonly Property[] = mapping.key,
): Promise<LoadedRecord> {
  const rows = await read(target, mapping, loadOf(mapping, by), (source) => keyValue(key, source))
  const [row] = rows
  if (!row) throw noSuchRecord(mapping, key, by)
  if (rows.length > 1) throw ambiguousRecord(mapping, key)
  return {
    record: recordFromTexts(mapping, mapping.properties, row),
    guard: toGuard(mapping, row[mapping.properties.length] ?? null),
  }
}

/** The text forms of a record's values, in the mapping's order; null where there is no such record. */
export async function loadTexts(target: Target, mapping: Mapping, key: KeyTexts): Promise<(string | null)[] | null> {
  const rows = await read(target, mapping, loadOf(mapping, mapping.key), (source) => keyValue(key, source))
  if (rows.length > 1) throw ambiguousRecord(mapping, key)
  return rows[0]?.slice(0, mapping.properties.length) ?? null
}

/** Shows how one record would be loaded. */
export function explainLoad(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  by: readonly Property[] = mapping.key,
  signal?: AbortSignal,
): Promise<Explained> {
  const { alone: statement } = loadOf(mapping, by)
  return explainStatement(
    target,
    mapping,
    statement,
    bindValues(statement, (source) => keyValue(key, source)),
    signal,
  )
}

function loadOf(mapping: Mapping, by: readonly Property[]): Load {
  let known = loads.get(mapping)
  if (!known) loads.set(mapping, (known = new Map()))
  const name = by === mapping.key ? '' : by.map((property) => property.name).join(' ')
  let load = known.get(name)
  if (!load) known.set(name, (load = { alone: buildLoad(mapping, by), shared: buildSharedLoad(mapping, by) }))
  return load
}

function keyValue(key: KeyTexts, source: SlotSource): string | null {
  return source.from === 'key' ? (key.get(source.property) ?? null) : null
}

export function noSuchRecord(mapping: Mapping, key: KeyTexts, by: readonly Property[] = mapping.key): LedgermanProblem {
  const shown = describeKey(by, key)
  const words = Object.entries(shown).map(([name, value]) => `${name} ${String(value)}`)
  return new LedgermanProblem('no-such-record', `There is no ${mapping.name} with ${words.join(', ') || 'this key'}.`, {
    mapping: mapping.name,
    key: shown,
  })
}

export function ambiguousRecord(mapping: Mapping, key: KeyTexts): LedgermanProblem {
  return new LedgermanProblem(
    'record-ambiguous',
    `Several rows of ${mapping.table.path} have this key: ${mapping.key.map((property) => property.name).join(', ')} does not identify one record of ${mapping.name}.`,
    { mapping: mapping.name, key: describeKey(mapping.key, key), expected: 'one', matched: 2 },
  )
}

async function read(
  target: Target,
  mapping: Mapping,
  { alone, shared }: Load,
  valueOf: Parameters<typeof bindValues>[1],
): Promise<Rows['rows']> {
  const readAlone = async () => (await target.read(alone.text, bindValues(alone, valueOf), alone.name)).rows
  try {
    if (!shared) return await readAlone()
    // A record that is not there is an answer too.
    const asked = target.shared(shared, { answers: () => true, isRead: true })
    return await asked.ask({ values: () => bindValues(shared, valueOf), subject: null, alone: readAlone })
  } catch (error) {
    throw await target.explainRead(error, { mapping, slots: alone.slots })
  }
}
