import type { OtherKey, RecordEvent } from '../../book/record-history.js'
import type { KeyTexts, Mapping } from '../../mapping/mapping.js'
import { keyConditionSql } from '../../statement/key-sql.js'
import { bindValues, SlotList, toStatement } from '../../statement/statement.js'
import type { Target } from '../../target/target.js'
import { castOfSent } from '../../values/cast-text.js'
import { digestText, isDigest } from '../../values/digest.js'

/** So many columns of a key are tried as digests and in clear; of more only as the mapping says. */
const MOST_TRIED = 3

/**
 * The record's keys of other columns, which entries are filed by: as it is now, or was when it was removed. What another mapping holds to be
 * sensitive is in the book as a digest, so both are looked for.
 *
 * @param all the columns of each
 * @param last the newest event of the record
 * @returns `unknown`: those that are not known, since the table or the images do not have the columns any more, or may not be read
 */
export async function otherKeys(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  all: readonly (readonly string[])[],
  last: RecordEvent | undefined,
): Promise<{ keys: OtherKey[]; unknown: string[] }> {
  const names = [...new Set(all.flat())]
  const texts = (await asItIs(target, mapping, key, names)) ?? asRemoved(mapping, last)
  const read = all.map((columns) => ({ columns, key: columns.flatMap((name) => texts.get(name) ?? []) }))
  const isKnown = (each: (typeof read)[number]) => each.key.length === each.columns.length
  return {
    keys: read
      .filter(isKnown)
      .flatMap(({ columns, key: parts }) =>
        forms(target, mapping, columns, parts).map((form) => ({ columns, key: form })),
      ),
    unknown: read.filter((each) => !isKnown(each)).map(({ columns }) => columns.join(', ')),
  }
}

/** Columns of the record as it is, in the form of the book; null where there is none. */
async function asItIs(
  target: Target,
  { table, key: by }: Mapping,
  key: KeyTexts,
  names: readonly string[],
): Promise<Map<string, string | null> | null> {
  const columns = table.columns.filter(({ name }) => names.includes(name))
  const slots = new SlotList()
  const list = columns.map(({ sql }) => `t.${sql}::text`).join(', ')
  const text = `select ${list === '' ? 'null' : list} from ${table.sql} as t where ${keyConditionSql(by, 't', slots)}`
  const statement = toStatement(text, slots)
  const values = bindValues(statement, (source) => (source.from === 'key' ? (key.get(source.property) ?? null) : null))
  // The role may read some of the columns only.
  const rows = await target.read(text, values).then(
    (read) => read.rows,
    () => [[]],
  )
  const [row] = rows
  return row ? new Map(columns.map(({ name }, at) => [name, row[at] ?? null])) : null
}

/** The same of one that was removed, out of the image of that. */
function asRemoved({ properties }: Mapping, last: RecordEvent | undefined): Map<string, string | null> {
  const types = new Map(properties.map(({ column }) => [column.name, column.type]))
  const known = Object.entries((last?.after === null && last.before) || {})
  return new Map(
    known.map(([name, text]) => {
      const type = types.get(name)
      return [name, type && !isDigest(text) ? castOfSent(text, type) : text]
    }),
  )
}

/** The forms that a key may have in the book. */
function forms(
  target: Target,
  { properties }: Mapping,
  columns: readonly string[],
  key: readonly string[],
): string[][] {
  return key.reduce<string[][]>(
    (all, text, at) => {
      const digest = isDigest(text) ? text : digestText(target.digestKey, text)
      const isSensitive = properties.some(({ column, sensitive }) => column.name === columns[at] && sensitive)
      const each = key.length > MOST_TRIED ? [isSensitive ? digest : text] : [text, digest]
      return all.flatMap((form) => each.map((part) => [...form, part]))
    },
    [[]],
  )
}
