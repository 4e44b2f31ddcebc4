import { LedgermanProblem, type FoundRecords, type LoadedRecord } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import { buildList, buildLoad } from '../statement/build-load.js'
import { bindValues, type Statement } from '../statement/statement.js'
import type { Target } from '../target/target.js'
import { describeKey, type KeyTexts } from './record-key.js'
import { recordFromTexts } from './record-row.js'
import { toGuard } from './guard-value.js'
import { readCursor, writeCursor } from './page-cursor.js'

const loads = new WeakMap<Mapping, Statement>()

/**
 * Loads one record by its key.
 *
 * @throws LedgermanProblem no-such-record, record-ambiguous, value-invalid, target-unavailable
 */
export async function loadRecord(target: Target, mapping: Mapping, key: KeyTexts): Promise<LoadedRecord> {
  let statement = loads.get(mapping)
  if (!statement) loads.set(mapping, (statement = buildLoad(mapping)))
  const rows = await read(target, mapping, statement, (source) =>
    source.from === 'key' ? (key.get(source.property) ?? null) : null,
  )
  const [row] = rows
  if (!row) throw noSuchRecord(mapping, key)
  if (rows.length > 1) throw ambiguousRecord(mapping, key)
  return {
    record: recordFromTexts(mapping, mapping.properties, row),
    guard: toGuard(mapping, row[mapping.properties.length] ?? null),
  }
}

/**
 * Lists records a page at a time, in the order of their key.
 *
 * @param after the `next` of the page before.
 */
export async function listRecords(
  target: Target,
  mapping: Mapping,
  page: { limit: number; after?: string | undefined },
): Promise<FoundRecords> {
  const place = page.after === undefined ? null : readCursor(mapping, page.after)
  const statement = buildList(mapping, place === null)
  const rows = await read(target, mapping, statement, (source) => {
    if (source.from === 'limit') return String(page.limit + 1)
    return source.from === 'key' ? (place?.get(source.property) ?? null) : null
  })
  const last = rows[page.limit - 1]
  return {
    found: rows.slice(0, page.limit).map((row) => recordFromTexts(mapping, mapping.properties, row)),
    next: last && rows.length > page.limit ? writeCursor(mapping, last) : null,
  }
}

export function noSuchRecord(mapping: Mapping, key: KeyTexts): LedgermanProblem {
  const shown = describeKey(mapping, key)
  const words = Object.entries(shown).map(([name, value]) => `${name} ${String(value)}`)
  return new LedgermanProblem('no-such-record', `There is no ${mapping.name} with ${words.join(', ') || 'this key'}.`, {
    mapping: mapping.name,
    key: shown,
  })
}

export function ambiguousRecord(mapping: Mapping, key: KeyTexts): LedgermanProblem {
  return new LedgermanProblem(
    'record-ambiguous',
    `Several rows of ${mapping.table.path} have this key: ${mapping.key.map((property) => property.name).join(', ')} does not identify a ${mapping.name}.`,
    { mapping: mapping.name, key: describeKey(mapping, key), expected: 'one', matched: 2 },
  )
}

async function read(target: Target, mapping: Mapping, statement: Statement, valueOf: Parameters<typeof bindValues>[1]) {
  try {
    const { rows } = await target.read(statement.text, bindValues(statement, valueOf), statement.name)
    return rows
  } catch (error) {
    throw target.explain(error, { mapping, slots: statement.slots })
  }
}
