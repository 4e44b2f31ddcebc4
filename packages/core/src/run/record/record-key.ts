import { LedgermanProblem, parseJson, RawJson, suggestName, type Json, type RecordValues } from '@ledgerman/contract'
import { uniqueOver } from '../../mapping/unique-over.js'
import type { ColumnType, ValueKind } from '../../values/column-type.js'
import { findPropertyOfColumn, type KeyTexts, type Mapping, type Property } from '../../mapping/mapping.js'
import { valueFromText, valueToText } from '../../values/value-text.js'
import { toValueProblem, ValueError } from '../../values/value-error.js'

/**
 * Checks the key values of an address or command line, which are all text, against the mapping's key.
 *
 * @throws LedgermanProblem no-key, request-invalid (another number of values), value-invalid
 */
export function parseKeyParts(
  mapping: Mapping,
  parts: readonly string[],
  by: readonly Property[] = mapping.key,
): KeyTexts {
  if (by.length === 0) assertKeyed(mapping)
  const names = by.map((property) => property.name)
  if (parts.length !== by.length) {
    throw new LedgermanProblem(
      'request-invalid',
      `The key of ${mapping.name} is ${names.join(', ')}: expected ${by.length} ${by.length === 1 ? 'value' : 'values'}, got ${parts.length}.`,
      { where: 'key', mapping: mapping.name, key: names },
    )
  }
  return new Map(by.map((property, at) => [property.name, keyText(mapping, property, parts[at] ?? '')]))
}

/**
 * The properties of another unique key, named as in `by=email` or `by=telescope,night`.
 *
 * @throws LedgermanProblem request-invalid where they are no properties, or not unique together.
 */
export function parseUniqueKey(mapping: Mapping, by: string): Property[] {
  const { table, byName } = mapping
  const chosen = by.split(',').map((name) => {
    const property = byName.get(name.trim())
    if (property) return property
    throw new LedgermanProblem(
      'request-invalid',
      `by: ${name.trim()} is not a property of ${mapping.name}. ${suggestName(name.trim(), byName.keys())}`,
      { where: 'by', mapping: mapping.name },
    )
  })
  const isUnique = uniqueOver(mapping, chosen) !== undefined
  // A view has no constraints of its own; there the number of rows found decides.
  if (isUnique || table.kind === 'view') return chosen
  const known = table.uniques.flatMap((unique) => {
    if (unique.partialOver !== null) return []
    const names = unique.columns.map((column) => findPropertyOfColumn(mapping, column)?.name)
    return names.every((name) => name !== undefined) ? [names.join(',')] : []
  })
  throw new LedgermanProblem(
    'request-invalid',
    `by: ${by} is not unique in ${table.path}${known.length > 0 ? `; unique are: ${known.join(' · ')}` : ''}. Use find with expect=one for what need not be.`,
    { where: 'by', mapping: mapping.name },
  )
}

/** @throws LedgermanProblem no-key where the table has nothing to find one record by. */
export function assertKeyed(mapping: Mapping): void {
  if (mapping.key.length > 0) return
  const [deferrable] = mapping.table.deferrableKeys
  if (deferrable !== undefined)
    throw new LedgermanProblem(
      'no-key',
      `The key ${deferrable} of ${mapping.table.path} is deferrable: within a transaction two rows may have it, so it is not taken for one. If that never happens, name its properties in the key of ${mapping.name}.`,
      { mapping: mapping.name, table: mapping.table.path, constraint: deferrable },
    )
  throw new LedgermanProblem(
    'no-key',
    `${whyNoKey(mapping)} Until then its records can be listed, but not told from one another.`,
    { mapping: mapping.name, table: mapping.table.path },
  )
}

function whyNoKey({ name, table }: Mapping): string {
  switch (table.kind) {
    case 'view':
      return `${table.path} is a view, and ${name} names no key. Name the properties that identify a record in the key of ${name}.`
    case 'foreign table':
      return `${table.path} is a foreign table, and PostgreSQL knows nothing of its keys. Map a view of it, and name the key there.`
    case 'materialized view':
      return `${table.path} is a materialized view without a unique index. Give it one over columns that are not null.`
    default:
      return `${table.path} has no unique key without nulls. Give the table a primary key.`
  }
}

/** The key as the caller gave it, for a problem that has to name the record. */
export function describeKey(by: readonly Property[], key: KeyTexts): RecordValues {
  return Object.fromEntries(
    by
      .filter((property) => !property.sensitive)
      .map(({ name, column }) => {
        const text = key.get(name) ?? null
        return [name, text === null ? null : asGiven(text, column.type)]
      }),
  )
}

/** A text of the database as callers write it: bytes in base64, an interval as ISO 8601 has it. */
function asGiven(text: string, type: ColumnType): string {
  try {
    const value = valueFromText(text, type)
    return typeof value === 'string' ? value : text
  } catch (error) {
    if (error instanceof ValueError) return text
    throw error
  }
}

function keyText(mapping: Mapping, property: Property, part: string): string {
  const { type } = property.column
  try {
    const text = valueToText(toJson(part, type.kind), { ...type, length: null, precision: null })
    return text ?? part
  } catch (error) {
    if (!(error instanceof ValueError)) throw error
    throw toValueProblem(
      { property: property.name, mapping: mapping.name, type: type.sql, sensitive: property.sensitive },
      error.expected,
      part,
    )
  }
}

/** A key that is a list or a document stands in an address as JSON. */
function jsonOf(part: string): Json {
  try {
    return parseJson(part)
  } catch {
    return part
  }
}

/** In an address every value is text; what JSON would carry as a number or a boolean is read as such. */
function toJson(part: string, kind: ValueKind): Json {
  if (kind === 'array' || kind === 'json' || kind === 'jsonb') return jsonOf(part)
  if (kind === 'boolean') return part === 'true' || (part === 'false' ? false : part)
  if ((kind === 'integer' || kind === 'float') && /^-?\d+(\.\d+)?(e[+-]?\d+)?$/i.test(part)) return new RawJson(part)
  return part
}
