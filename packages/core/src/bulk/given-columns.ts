import {
  fileInvalid,
  LedgermanProblem,
  parseJson,
  RawJson,
  suggestName,
  type Json,
  type OnMissing,
} from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import { assertKeyed } from '../run/record/record-key.js'
import type { ValueKind } from '../values/column-type.js'
import { describeValue, ValueError } from '../values/value-error.js'
import { valueToText } from '../values/value-text.js'
import type { GivenShape } from './bulk-shape.js'

/** How a file of corrections is to be understood. */
export interface GivenOptions {
  /** The column that holds each row's guard; null where none does. */
  guard: string | null
  onMissing: OnMissing
}

/** The columns of a file, understood: which of them are the key, which are set, which holds the guard. */
export interface GivenColumns {
  shape: GivenShape
  /** For each property of the shape, the place of its column in the file. */
  places: readonly number[]
  guardPlace: number | null
  names: readonly string[]
}

/** What one row of a file says, in PostgreSQL's text form: the shape's properties in order, then the guard where there is one. */
export type GivenRow = (string | null)[]

/**
 * Understands the columns of a file by their names, which are properties.
 *
 * @param line of the header, for its problems.
 * @throws LedgermanProblem file-invalid, no-key
 */
export function readColumns(
  mapping: Mapping,
  names: readonly string[],
  { guard, onMissing }: GivenOptions,
  line: number,
): GivenColumns {
  assertKeyed(mapping)
  const twice = names.findIndex((name, at) => names.indexOf(name) !== at)
  if (twice >= 0)
    throw fileInvalid(line, twice + 1, `the column ${names[twice]} stands there twice`, 'each column once')
  if (guard !== null) assertGuard(mapping, names, guard, line)
  const places: number[] = []
  const properties: Property[] = []
  for (const [at, name] of names.entries()) {
    if (name === guard) continue
    const property = mapping.byName.get(name)
    if (!property) {
      const near = suggestName(
        name,
        mapping.properties.map((each) => each.name),
      )
      const mayBeGuard = guard === null && mapping.guard.by !== 'none' && /^guard/i.test(name)
      const [other] = (names.length === 1 && /[,;|\t]/.exec(name)) || []
      const hint =
        other !== undefined
          ? ` The whole line is one column: is ${other === '\t' ? 'a tab' : `"${other}"`} the delimiter?`
          : mayBeGuard
            ? " If each row's guard stands there, give its name as guard."
            : ''
      const expected = near.replace(/^Valid names: (.*?)\.?$/, 'one of $1').replace(/^Did you mean (.*)\?$/, '$1')
      throw fileInvalid(line, at + 1, `${quoted(name)} is not a property of ${mapping.name}`, expected, hint)
    }
    // A record that is there may come with all it was exported with; one that is to be added has no such values yet.
    const lock = onMissing === 'add' ? property.lockedForAddBecause : null
    if (lock !== null)
      throw fileInvalid(
        line,
        at + 1,
        `${name} cannot be set in a new ${mapping.name}: ${lock}`,
        'columns that can be set; take this one out',
      )
    properties.push(property)
    places.push(at)
  }
  const missing = mapping.key.filter((property) => !properties.includes(property))
  if (missing.length > 0)
    throw fileInvalid(
      line,
      null,
      `the key of ${mapping.name} is missing: ${missing.map(({ name }) => name).join(', ')}`,
      `a column for each of ${mapping.key.map(({ name }) => name).join(', ')}`,
    )
  const isSet = (property: Property) => !property.key && property.lockedBecause === null
  const set = properties.filter(isSet)
  const kept = properties.filter((property) => !property.key && !isSet(property))
  if (set.length === 0 && onMissing === 'refuse')
    throw fileInvalid(
      line,
      null,
      'it has no column that can be set, so there is nothing to change',
      `a column for each property to change`,
    )
  const ordered = [...mapping.key, ...set, ...kept]
  return {
    shape: { properties: ordered, set, kept, hasGuard: guard !== null, addsMissing: onMissing === 'add' },
    places: ordered.map((property) => places[properties.indexOf(property)] ?? 0),
    guardPlace: guard === null ? null : names.indexOf(guard),
    names,
  }
}

function assertGuard(mapping: Mapping, names: readonly string[], guard: string, line: number): void {
  if (mapping.guard.by === 'none')
    throw new LedgermanProblem('request-invalid', `guard: ${mapping.name} has no guard, so ${guard} cannot hold one.`, {
      where: 'guard',
    })
  if (!names.includes(guard))
    throw fileInvalid(
      line,
      null,
      `there is no column ${guard}, which is said to hold the guards`,
      `one of ${names.join(', ')}`,
    )
}

/**
 * Reads one row of a file.
 *
 * @param fields as they stand in the file, by column: text of CSV, values of NDJSON; undefined for a member that is not there.
 * @throws LedgermanProblem file-invalid with line, column, what was found and expected.
 */
export function readRow(
  mapping: Mapping,
  { shape, places, guardPlace, names }: GivenColumns,
  fields: readonly (Json | undefined)[],
  isText: boolean,
  line: number,
): GivenRow {
  const row: GivenRow = shape.properties.map((property, at) => {
    const place = places[at] ?? 0
    const field = fields[place]
    if (field === undefined)
      throw fileInvalid(line, place + 1, `${property.name} is not there`, 'a value for each column, null included')
    return fieldText(mapping, property, field, isText, { line, column: place + 1 })
  })
  if (guardPlace !== null) {
    const guard = fields[guardPlace]
    if (typeof guard !== 'string' || guard === '')
      throw fileInvalid(line, guardPlace + 1, `${names[guardPlace]} is empty`, "the row's guard, such as v3")
    row.push(guard)
  }
  return row
}

function fieldText(
  mapping: Mapping,
  property: Property,
  field: Json,
  isText: boolean,
  { line, column }: { line: number; column: number },
): string | null {
  const { type, notNull } = property.column
  if (field === null) {
    if (property.key) throw fileInvalid(line, column, `${property.name} is null`, 'a value of the key')
    if (notNull || type.domainNotNull)
      throw fileInvalid(line, column, `${property.name} is null`, `a value; ${mapping.name} needs one there`)
    return null
  }
  // Most values are as plain as this: the codecs need not look at them.
  if (isText && typeof field === 'string' && plainForm(property).test(field)) return field
  try {
    return valueToText(isText ? fromField(field, type.kind) : field, type)
  } catch (error) {
    if (!(error instanceof ValueError)) throw error
    const found = property.sensitive ? 'a value that is not shown' : describeValue(field)
    throw fileInvalid(line, column, `${property.name} is ${found}`, error.expected)
  }
}

const plainForms = new WeakMap<Property, RegExp>()

/** What a field looks like that is certainly a value of the property, in PostgreSQL's own text form already. */
function plainForm(property: Property): RegExp {
  let form = plainForms.get(property)
  if (!form) plainForms.set(property, (form = new RegExp(`^${plainPattern(property)}$`)))
  return form
}

function plainPattern({ column: { type } }: Property): string {
  switch (type.kind) {
    case 'integer':
      return type.name === 'int2' ? '-?\\d{1,4}' : '-?\\d{1,9}'
    case 'bigint':
      return '-?\\d{1,18}'
    case 'numeric': {
      const { digits, scale } = type.precision ?? { digits: 30, scale: 15 }
      return scale <= 0 || digits <= scale ? NOTHING : `-?\\d{1,${digits - scale}}(?:\\.\\d{1,${scale}})?`
    }
    default:
      return NOTHING
  }
}

/** Matches no text at all. */
const NOTHING = '(?!)'

/** A field of CSV is text; what JSON would carry otherwise is read as such. */
function fromField(field: Json, kind: ValueKind): Json {
  if (typeof field !== 'string') return field
  switch (kind) {
    case 'boolean':
      return field === 'true' || (field === 'false' ? false : field)
    case 'integer':
    case 'float':
      return /^-?\d+(\.\d+)?(e[+-]?\d+)?$/i.test(field) ? new RawJson(field) : field
    case 'array':
    case 'json':
    case 'jsonb':
      try {
        return parseJson(field)
      } catch {
        throw new ValueError(kind === 'array' ? 'a JSON array, such as ["imaging"]' : 'JSON')
      }
    default:
      return field
  }
}

function quoted(name: string): string {
  return `"${name.length > 60 ? `${name.slice(0, 57)}…` : name}"`
}

/** A row as COPY's text format has it (PostgreSQL's "COPY", section "Text Format"): its number, its line, its fields. */
export function copyLine(no: number, line: number, row: GivenRow): string {
  let text = `${no}\t${line}`
  for (const field of row) text += field === null ? '\t\\N' : `\t${escaped(field)}`
  return `${text}\n`
}

function escaped(field: string): string {
  return /[\\\t\n\r]/.test(field) ? field.replace(/[\\\t\n\r]/g, (each) => ESCAPES[each] ?? each) : field
}

const ESCAPES: Record<string, string> = { '\\': '\\\\', '\t': '\\t', '\n': '\\n', '\r': '\\r' }

/** Reads what `copyLine` wrote. */
export function readCopyLine(text: string): { no: number; line: number; row: GivenRow } {
  const [no, line, ...fields] = text.split('\t')
  return {
    no: Number(no),
    line: Number(line),
    row: fields.map((field) => (field === '\\N' ? null : field.includes('\\') ? unescaped(field) : field)),
  }
}

function unescaped(field: string): string {
  return field.replace(/\\(.)/g, (_, letter: string) => ({ t: '\t', n: '\n', r: '\r' })[letter] ?? letter)
}
