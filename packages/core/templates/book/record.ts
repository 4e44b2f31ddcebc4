import { arrayText, current, digestPads, kept, newEntryId } from './settings.js'
import { idOf, type BookedStatement } from './statements.js'

export interface RecordEntry {
  statement: BookedStatement
  values: readonly (string | null)[]
  key: readonly (string | null)[]
  /** The SQL that writes a key as PostgreSQL does: of $1, a list of texts. */
  keySql: string
  /** Whether a value of the record must not be shown. */
  isSensitive: boolean
  /** Whether the statement makes digests of such values. */
  isDigested: boolean
}

/**
 * The part of a statement that writes the entry of its record, behind `at` values of its own: `entryValues` gives those that it needs.
 *
 * @param parts SQL: the key and the images, as arrays; whether the row was written, null where each was; where they come from, and when there is an entry
 */
export function entryPart(
  at: number,
  parts: {
    key: string | null
    before: string | null
    after: string | null
    written: string | null
    from: string
    where: string
  },
): string {
  const { key, before, after, written, from, where } = parts
  const image = (sql: string | null) =>
    sql === null || written === null ? String(sql) : `case when ${written} then ${sql} end`
  return `, booked as (
  insert into ledgerman.entry (id, at, actor, outcome, statement, binds, note, record, key, matched, changed, before, after)
  select $${at + 1}::uuid, pg_catalog.clock_timestamp(), $${at + 2}::text, 'committed', $${at + 3}::bigint, $${at + 4}::text[], $${at + 5}::text,
    ${key === null ? 'null, null' : `pg_catalog.hash_array_extended(${key}, 0), ${key}`}, 1, ${written === null ? '1' : `case when ${written} then 1 else 0 end`},
    ${image(before)},
    ${image(after)}
  from ${from}
  where ${where}
)`
}

/** What `entryPart` binds. An entry has an id of its own, each time it is tried. */
export function entryValues({ statement, values, isDigested }: RecordEntry): (string | null)[] {
  const { actor, note } = current()
  const sensitive = statement.binds.map((bind) => bind.sensitive)
  const own = [newEntryId(), actor, idOf(statement), arrayText(kept(values, sensitive)), note]
  return isDigested ? [...own, digestPads()] : own
}
