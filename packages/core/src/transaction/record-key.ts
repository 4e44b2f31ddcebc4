import { LedgermanProblem, RawJson, type Json, type RecordValues } from '@ledgerman/contract'
import type { ValueKind } from '../values/column-type.js'
import type { Mapping } from '../mapping/mapping.js'
import { valueToText } from '../values/value-text.js'
import { toValueProblem, ValueError } from '../values/value-error.js'

/** The values that find one record, by property, in PostgreSQL's text form. */
export type KeyTexts = ReadonlyMap<string, string>

/**
 * Checks the key values of an address or command line, which are all text, against the mapping's key.
 *
 * @throws LedgermanProblem no-key, request-invalid (another number of values), value-invalid
 */
export function parseKeyParts(mapping: Mapping, parts: readonly string[]): KeyTexts {
  assertKeyed(mapping)
  const names = mapping.key.map((property) => property.name).join(', ')
  if (parts.length !== mapping.key.length) {
    throw new LedgermanProblem(
      'request-invalid',
      `The key of ${mapping.name} is ${names}: expected ${mapping.key.length} ${mapping.key.length === 1 ? 'value' : 'values'}, got ${parts.length}.`,
      { where: 'key', mapping: mapping.name, key: mapping.key.map((property) => property.name) },
    )
  }
  return new Map(mapping.key.map((property, at) => [property.name, keyText(mapping, at, parts[at] ?? '')]))
}

/** @throws LedgermanProblem no-key where the table has nothing to find one record by. */
export function assertKeyed(mapping: Mapping): void {
  if (mapping.key.length > 0) return
  throw new LedgermanProblem(
    'no-key',
    `${mapping.table.path} has no unique key without nulls, so one record of ${mapping.name} cannot be told from another. Its records can be listed; to change one, give the table a primary key.`,
    { mapping: mapping.name, table: mapping.table.path },
  )
}

/** The key as the caller gave it, for a problem that has to name the record. */
export function describeKey(mapping: Mapping, key: KeyTexts): RecordValues {
  return Object.fromEntries(
    mapping.key.filter((property) => !property.sensitive).map(({ name }) => [name, key.get(name) ?? null]),
  )
}

function keyText(mapping: Mapping, at: number, part: string): string {
  const property = mapping.key[at]
  if (!property) return part
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

/** In an address every value is text; what JSON would carry as a number or a boolean is read as such. */
function toJson(part: string, kind: ValueKind): Json {
  if (kind === 'boolean') return part === 'true' || (part === 'false' ? false : part)
  if ((kind === 'integer' || kind === 'float') && /^-?\d+(\.\d+)?(e[+-]?\d+)?$/i.test(part)) return new RawJson(part)
  return part
}
