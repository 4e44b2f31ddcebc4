import type { RecordValues, StepKind } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import { toRowReceipt } from '../mapping/row-receipt.js'
import { textOfImage } from '../mapping/showable.js'
import { shownRecord } from '../mapping/record-row.js'
import type { ShortForm } from '../statement/statement.js'

/** A statement as the book keeps it. */
export interface BookedStatement {
  kind: StepKind
  mapping: string
  revision: number
  key_columns: string[]
  touched: string[]
  text: string
  short: ShortForm | null
  binds: { name: string; type: string }[]
}

/** A record as it was and as it is, in PostgreSQL's texts: the columns that its statement touched, in order. */
export interface BookedImage {
  key: string[] | null
  before: (string | null)[] | null
  after: (string | null)[] | null
}

/** The key in the mapping's words, or under its columns' names where the mapping no longer fits. */
export function bookedKey(
  key: readonly string[],
  statement: BookedStatement | null,
  mapping: Mapping | undefined,
): RecordValues {
  if (mapping && mapping.key.length === key.length) return shownRecord(mapping.key, textsOf(mapping.key, key))
  return Object.fromEntries(key.map((value, at) => [statement?.key_columns[at] ?? String(at), value]))
}

/** The row of a receipt that an image is. `isSet` tells what was set of it from what the database wrote beside that. */
export function bookedRow(
  { key, ...image }: BookedImage,
  statement: BookedStatement | null,
  mapping: Mapping | undefined,
  isSet: (property: Property) => boolean,
) {
  const names = statement?.touched ?? []
  const byColumn = (texts: (string | null)[] | null) =>
    texts && Object.fromEntries(names.map((name, at) => [name, texts[at] ?? null]))
  const [before, after] = [byColumn(image.before), byColumn(image.after)]
  if (!mapping || key === null) return { key: bookedKey(key ?? [], statement, mapping), before, after }
  const touched = mapping.properties.filter(({ column }) => names.includes(column.name))
  const inOrder = (values: Record<string, string | null> | null) =>
    values &&
    textsOf(
      touched,
      touched.map(({ column }) => values[column.name] ?? null),
    )
  return toRowReceipt(
    mapping,
    { key: textsOf(mapping.key, key), touched, before: inOrder(before), after: inOrder(after) },
    isSet,
  )
}

function textsOf(properties: readonly Property[], texts: readonly (string | null)[]): (string | null)[] {
  return texts.map((text, at) => {
    const property = properties[at]
    return property ? textOfImage(property, text) : text
  })
}
