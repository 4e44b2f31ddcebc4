import { LedgermanProblem, suggestName, type Json, type RecordValues } from '@ledgerman/contract'
import type { Mapping, Property } from '../../mapping/mapping.js'
import type { MergePlan } from '../../statement/merge-sql.js'
import { isObject, planMerge } from './plan-merge.js'
import { toValueProblem, ValueError } from '../../values/value-error.js'
import { valueToText } from '../../values/value-text.js'

/** What a step sets: the properties in the mapping's order, and each one's value in PostgreSQL's text form. */
export interface WriteSet {
  properties: Property[]
  texts: ReadonlyMap<string, string | null>
  /** Json properties of which only parts are set. */
  merges: ReadonlyMap<Property, MergePlan>
  /** The names and values that the merges number. */
  merged: readonly string[]
}

/**
 * Checks the values of a partial change. With `isMerge`, an object for a json property sets only the members it names
 * (RFC 7396).
 *
 * @throws LedgermanProblem request-invalid (nothing to set, unknown or locked property), value-invalid
 */
export function parseChangeSet(mapping: Mapping, values: RecordValues, isMerge: boolean): WriteSet {
  if (Object.keys(values).length === 0) {
    throw new LedgermanProblem('request-invalid', `The change names no property of ${mapping.name} to set.`, {
      where: 'body',
    })
  }
  for (const name of Object.keys(values))
    assertSettable(getProperty(mapping, name), mapping, (property) => property.lockedBecause)
  return toWriteSet(mapping, values, isMerge)
}

/**
 * Checks the values of a new record. Columns that are not named get their defaults.
 *
 * @throws LedgermanProblem request-invalid, value-invalid
 */
export function parseAddSet(mapping: Mapping, values: RecordValues): WriteSet {
  if (mapping.properties.length === 0)
    throw new LedgermanProblem('request-invalid', `${mapping.name} has no properties: there is nothing to add.`, {
      mapping: mapping.name,
    })
  for (const name of Object.keys(values))
    assertSettable(getProperty(mapping, name), mapping, (property) => property.lockedForAddBecause)
  return toWriteSet(mapping, values, false)
}

/**
 * Checks a full replacement: every writable property has to be there. What cannot be set may be there too, as in a record
 * that was loaded, but only with the value the record has.
 *
 * @returns what is set, and what has to be as it is.
 * @throws LedgermanProblem request-invalid, with the properties that would have been lost; value-invalid
 */
export function parseReplacement(mapping: Mapping, values: RecordValues): { set: WriteSet; kept: RecordValues } {
  for (const name of Object.keys(values)) getProperty(mapping, name)
  const writable = mapping.properties.filter((property) => property.lockedBecause === null)
  const lost = writable.filter((property) => !Object.hasOwn(values, property.name)).map((property) => property.name)
  if (lost.length > 0) {
    throw new LedgermanProblem(
      'request-invalid',
      `A replacement names every property that can be set; ${lost.join(', ')} would have been lost. Give ${lost.length === 1 ? 'it' : 'them'} as well, or change only what you mean with PATCH.`,
      { where: 'body', mapping: mapping.name, properties: lost, lost },
    )
  }
  const isWritable = (name: string) => mapping.byName.get(name)?.lockedBecause === null
  const part = (keep: boolean) =>
    Object.fromEntries(Object.entries(values).filter(([name]) => isWritable(name) !== keep))
  return { set: toWriteSet(mapping, part(false), false), kept: part(true) }
}

/**
 * Checks values that the record has to have for a step to go on: what was loaded, or tested.
 *
 * @throws LedgermanProblem request-invalid, value-invalid
 */
export function parseExpected(mapping: Mapping, values: RecordValues): WriteSet {
  for (const name of Object.keys(values)) getProperty(mapping, name)
  return toWriteSet(mapping, values, false)
}

export function getProperty(mapping: Mapping, name: string): Property {
  const property = mapping.byName.get(name)
  if (property) return property
  throw new LedgermanProblem(
    'request-invalid',
    `${name} is not a property of ${mapping.name}. ${suggestName(name, mapping.byName.keys())}`,
    { where: name, mapping: mapping.name, properties: [name] },
  )
}

function assertSettable(property: Property, mapping: Mapping, lockOf: (property: Property) => string | null): void {
  const lock = lockOf(property)
  if (lock === null) return
  throw new LedgermanProblem('request-invalid', `${property.name} cannot be set: ${lock}.`, {
    where: property.name,
    mapping: mapping.name,
    properties: [property.name],
  })
}

function toWriteSet(mapping: Mapping, values: RecordValues, isMerge: boolean): WriteSet {
  const properties = mapping.properties.filter((property) => Object.hasOwn(values, property.name))
  const merges = new Map<Property, MergePlan>()
  const merged: string[] = []
  const texts = new Map<string, string | null>()
  for (const property of properties) {
    const value = values[property.name] as Json
    if (isMerge && isMergeable(property, value)) merges.set(property, planMerge(property.name, value, merged))
    else texts.set(property.name, toText(mapping, property, value))
  }
  return { properties, texts, merges, merged }
}

function isMergeable({ column }: Property, value: Json): value is { [name: string]: Json } {
  return (
    (column.type.kind === 'jsonb' || column.type.kind === 'json') &&
    isObject(value) &&
    !(Object.keys(value).length === 1 && 'ledgerman:json' in value)
  )
}

function toText(mapping: Mapping, property: Property, value: Json): string | null {
  const { type } = property.column
  try {
    return valueToText(value, type)
  } catch (error) {
    if (!(error instanceof ValueError)) throw error
    const place = { property: property.name, mapping: mapping.name, type: type.sql, sensitive: property.sensitive }
    throw toValueProblem(place, error.expected, value)
  }
}
