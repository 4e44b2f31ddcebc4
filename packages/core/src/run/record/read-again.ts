import type { StepKind } from '@ledgerman/contract'
import type { KeyTexts, Mapping } from '../../mapping/mapping.js'
import { lateTriggers } from '../../mapping/side-writes.js'
import { buildLoad } from '../../statement/build-load.js'
import { FLAGS, VERDICTS, type KeyedStatement } from '../../statement/keyed-statement.js'
import { bindValues } from '../../statement/statement.js'
import type { Queryable } from '../../sessions/queryable.js'
import type { Target } from '../../target/target.js'
import { toTextArray } from '../../sessions/text-array.js'
import { showable } from '../../mapping/showable.js'

/** Whether triggers that fire after a row was written may write it again: what the statement returned is not all then. */
export function mayBeWrittenAgain(mapping: Mapping, kind: StepKind): boolean {
  return mapping.key.length > 0 && lateTriggers(mapping, kind).length > 0
}

/** Whether a row that a statement could not lock can be read all the same: a policy lets it be seen and not be written. */
export async function isHidden(session: Queryable, mapping: Mapping, key: KeyTexts): Promise<boolean> {
  if (!mapping.table.rowSecurity || key.size === 0) return false
  return (await load(session, mapping, key)).length > 0
}

/**
 * Reads a row again at the end of its transaction, after the triggers that fire late, and puts what it is then into the statement's
 * row and into the entry: so the answer, the guard and the image are what others will find.
 *
 * @param row of the keyed statement; changed in place
 * @param entry the entry that was written; null where nothing is kept
 */
export async function readAgain(
  target: Target,
  session: Queryable,
  mapping: Mapping,
  { kind, touched }: KeyedStatement,
  key: KeyTexts,
  row: (string | null)[] | undefined,
  entry: string | null,
): Promise<void> {
  if (!row || kind === 'remove') return
  const verdictAt = kind === 'add' ? 0 : mapping.properties.length
  if (row[verdictAt + FLAGS.indexOf('verdict')]?.[VERDICTS.indexOf('written')] !== 't') return
  await session.query('set constraints all immediate')
  const { properties } = mapping
  const first = kind === 'add' ? 0 : properties.length
  const valueOf = (at: number) => {
    const after = touched.indexOf(properties[at] as (typeof properties)[number])
    return (after < 0 ? row[at] : row[first + FLAGS.length + after]) ?? null
  }
  // The key as it was written: a trigger before it may have set another, and a new record has none until then.
  const written = new Map(
    mapping.key.map((property) => [
      property.name,
      valueOf(properties.indexOf(property)) ?? key.get(property.name) ?? '',
    ]),
  )
  const [now] = await load(session, mapping, written)
  if (!now) return
  const texts = touched.map((property) => now[properties.indexOf(property)] ?? null)
  const isSame = texts.every((text, at) => text === (row[first + FLAGS.length + at] ?? null))
  if (isSame) return
  row.splice(first + FLAGS.length, touched.length, ...texts)
  row[first + FLAGS.indexOf('guardAfter')] = now[properties.length] ?? null
  if (entry === null) return
  const shown = touched.map((property, at) => showable(target, property, texts[at] ?? null))
  await session.query('update ledgerman.entry set after = $2::text[] where id = $1::uuid', [entry, toTextArray(shown)])
}

async function load(session: Queryable, mapping: Mapping, key: KeyTexts): Promise<(string | null)[][]> {
  const statement = buildLoad(mapping)
  const values = bindValues(statement, (source) => (source.from === 'key' ? (key.get(source.property) ?? null) : null))
  return (await session.query(statement.text, values)).rows
}
