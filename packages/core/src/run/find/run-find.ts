import type { Mapping } from '../../mapping/mapping.js'
import { bindValues, type Statement } from '../../statement/statement.js'
import type { Target } from '../../target/target.js'
import { expressionValue, type ReadFind } from './find-request.js'
import type { Place } from './page-cursor.js'

/**
 * Runs a statement that only reads, and tells what goes wrong in the words of the expression.
 *
 * @param asWritten gives the statement of the very words, where it was built of others that differ in literals only
 */
export async function runFind(
  target: Target,
  mapping: Mapping,
  statement: Statement,
  values: (string | null)[],
  signal: AbortSignal | undefined,
  { isPrepared = false, asWritten }: { isPrepared?: boolean; asWritten?: (() => Promise<Statement>) | undefined } = {},
): Promise<(string | null)[][]> {
  try {
    const name = isPrepared ? statement.name : undefined
    return (await target.readOnly(statement.text, values, signal, name)).rows
  } catch (error) {
    const said = asWritten ? await asWritten() : statement
    throw await target.explainRead(error, { mapping, slots: said.slots, statement: said })
  }
}

export function valuesOf(
  statement: Statement,
  read: Pick<ReadFind, 'bind' | 'literals'>,
  place: Place | null,
  limit: number,
): (string | null)[] {
  return bindValues(statement, (source, slot) => {
    const value = expressionValue(read, source, slot)
    if (value !== undefined) return value
    if (source.from === 'limit') return String(limit)
    if (source.from === 'offset') return String(place && 'offset' in place ? place.offset : 0)
    return source.from === 'place' && place && 'values' in place ? (place.values[source.at] ?? null) : null
  })
}
