import { LedgermanProblem, suggestName, type Json, type RecordValues } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import { toValueProblem, ValueError } from '../values/value-error.js'
import { valueToText } from '../values/value-text.js'

/** What a change sets: the properties in the mapping's order, and each one's value in PostgreSQL's text form. */
export interface ChangeSet {
  properties: Property[]
  texts: ReadonlyMap<string, string | null>
}

/**
 * Checks the values a caller wants to set.
 *
 * @throws LedgermanProblem request-invalid (nothing to set, unknown or locked property), value-invalid
 */
export function parseChangeSet(mapping: Mapping, values: RecordValues): ChangeSet {
  const names = Object.keys(values)
  if (names.length === 0) {
    throw new LedgermanProblem('request-invalid', `The change names no property of ${mapping.name} to set.`, {
      where: 'body',
    })
  }
  for (const name of names) getWritable(mapping, name)
  const properties = mapping.properties.filter((property) => Object.hasOwn(values, property.name))
  return {
    properties,
    texts: new Map(
      properties.map((property) => [property.name, toText(mapping, property, values[property.name] as Json)]),
    ),
  }
}

function getWritable(mapping: Mapping, name: string): Property {
  const property = mapping.byName.get(name)
  if (!property) {
    throw new LedgermanProblem(
      'request-invalid',
      `${name} is not a property of ${mapping.name}; ${suggestName(name, mapping.byName.keys())}`,
      {
        where: name,
        mapping: mapping.name,
        properties: [name],
      },
    )
  }
  if (property.lockedBecause !== null) {
    throw new LedgermanProblem('request-invalid', `${name} cannot be set: ${property.lockedBecause}.`, {
      where: name,
      mapping: mapping.name,
      properties: [name],
    })
  }
  return property
}

function toText(mapping: Mapping, property: Property, value: Json): string | null {
  const { type } = property.column
  try {
    return valueToText(value, type)
  } catch (error) {
    if (!(error instanceof ValueError)) throw error
    throw toValueProblem(
      { property: property.name, mapping: mapping.name, type: type.sql, sensitive: property.sensitive },
      error.expected,
      value,
    )
  }
}
