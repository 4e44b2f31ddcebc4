import { LedgermanProblem, type Json, type RecordValues } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
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

/** The same for texts that may be shown: a sensitive one is a digest already, which no codec can read. */
export function shownRecord(
  mapping: Mapping,
  properties: readonly Property[],
  shown: readonly (string | null)[],
): RecordValues {
  const record: RecordValues = {}
  for (const [at, property] of properties.entries()) {
    const text = shown[at] ?? null
    record[property.name] = property.sensitive ? text : propertyValue(mapping, property, text)
  }
  return record
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
