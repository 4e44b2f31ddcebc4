import { isProblem, LedgermanProblem, type Json, type RecordValues } from '@ledgerman/contract'
import type { Mapping, Property } from './mapping.js'
import { ValueError } from '../values/value-error.js'
import { valueFromText } from '../values/value-text.js'

/**
 * Makes a record out of the text forms of these properties' values.
 *
 * @throws LedgermanProblem value-invalid for a value that JSON cannot carry without loss.
 */
export function recordFromTexts(
  mapping: Mapping,
  properties: readonly Property[],
  texts: readonly (string | null)[],
): RecordValues {
  const record: RecordValues = {}
  properties.forEach((property, at) => {
    record[property.name] = propertyValue(mapping, property, texts[at] ?? null)
  })
  return record
}

/** A record as far as JSON can carry it, and the names of the properties that it cannot. */
export interface ToldRecord {
  record: RecordValues
  lost: { name: string; why: string }[]
}

/**
 * The same for what has happened already, where no value may stand in the way of telling it: a property whose value JSON cannot carry is
 * left out, and named.
 */
export function tellRecord(
  mapping: Mapping,
  properties: readonly Property[],
  texts: readonly (string | null)[],
): ToldRecord {
  const record: RecordValues = {}
  const lost: ToldRecord['lost'] = []
  properties.forEach((property, at) => {
    try {
      record[property.name] = propertyValue(mapping, property, texts[at] ?? null)
    } catch (error) {
      if (!isProblem(error, 'value-invalid')) throw error
      lost.push({ name: property.name, why: error.detail })
    }
  })
  return { record, lost }
}

/**
 * The same for receipts. A sensitive text is a digest already, which no codec can read; a value that JSON cannot carry is shown in
 * PostgreSQL's own text form.
 */
export function shownRecord(properties: readonly Property[], shown: readonly (string | null)[]): RecordValues {
  const record: RecordValues = {}
  for (const [at, property] of properties.entries()) {
    const text = shown[at] ?? null
    record[property.name] = property.sensitive ? text : valueOrText(text, property)
  }
  return record
}

function valueOrText(text: string | null, { column }: Property): Json {
  try {
    return valueFromText(text, column.type)
  } catch (error) {
    if (error instanceof ValueError) return text
    throw error
  }
}

/** One property's value out of its text form. @throws LedgermanProblem value-invalid */
export function propertyValue(mapping: Mapping, { name, column }: Property, text: string | null): Json {
  try {
    return valueFromText(text, column.type)
  } catch (error) {
    if (!(error instanceof ValueError)) throw error
    throw new LedgermanProblem(
      'value-invalid',
      `${name} cannot be shown without loss: expected ${error.expected}. Leave the property out of the mapping, or rewrite the value.`,
      {
        where: name,
        mapping: mapping.name,
        properties: [name],
      },
    )
  }
}

/** A value out of its text form; in PostgreSQL's own text form where JSON cannot carry it. */
export function jsonOfText(text: string | null, property: Property): Json {
  return valueOrText(text, property)
}
