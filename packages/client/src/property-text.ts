import { LedgermanProblem, parseJson, printJson, RawJson, type PropertyInfo } from '@ledgerman/contract'

/** How a property's value is read from and written as one line of text, on a command line or in a form field. */
type TextProperty = Pick<PropertyInfo, 'name' | 'kind' | 'type'>

/**
 * Reads a value from text. Where JSON carries a kind as a string the text is the value; the service checks it further.
 *
 * @throws LedgermanProblem value-invalid, naming the property and what was expected.
 */
export function propertyFromText({ name, kind, type }: TextProperty, text: string): unknown {
  switch (kind) {
    case 'boolean':
      if (text === 'true' || text === 'false') return text === 'true'
      throw invalid(name, 'true or false', text)
    case 'integer':
    case 'float':
      if (kind === 'float' && /^(NaN|-?Infinity)$/.test(text)) return text
      if (/^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(text)) return new RawJson(text)
      throw invalid(name, `a number (${type})`, text)
    case 'json':
    case 'jsonb':
    case 'array':
      try {
        return parseJson(text)
      } catch (error) {
        const why = error instanceof Error ? error.message : ''
        throw invalid(name, kind === 'array' ? `a JSON array, such as ["imaging"]` : 'JSON', text, why)
      }
    default:
      return text
  }
}

/** Writes a value as the text that `propertyFromText` reads as the same value. Null has none: it is shown apart. */
export function propertyToText(value: unknown): string {
  if (value === null || value === undefined) return ''
  return typeof value === 'string' ? value : printJson(value)
}

/** A record's key in words: its values, in key order. */
export function keyToText(key: Readonly<Record<string, unknown>>, between = ', '): string {
  return Object.values(key).map(propertyToText).join(between)
}

function invalid(name: string, expected: string, got: string, why = ''): LedgermanProblem {
  const words = why === '' ? '' : ` ${why}.`
  return new LedgermanProblem('value-invalid', `${name}: expected ${expected}, got "${got}".${words}`, {
    where: name,
    expected,
  })
}
