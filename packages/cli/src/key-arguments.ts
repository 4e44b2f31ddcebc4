import { propertyFromText } from '@ledgerman/client'
import {
  LedgermanProblem,
  suggestName,
  type MappingInfo,
  type PropertyInfo,
  type RecordValues,
} from '@ledgerman/contract'

/**
 * Parts the arguments of a keyed command into the key values, as many as the mapping's key has, and the `prop=value` pairs
 * behind them. A key value may hold an equals sign.
 *
 * @throws LedgermanProblem request-invalid
 */
export function splitArguments(mapping: MappingInfo, words: readonly string[]): { key: string[]; pairs: string[] } {
  const { key: names } = mapping
  if (names.length === 0) {
    throw new LedgermanProblem(
      'no-key',
      `${mapping.table} has no unique key without nulls, so one record cannot be told from another.`,
      { mapping: mapping.name },
    )
  }
  if (words.length < names.length) {
    throw new LedgermanProblem(
      'request-invalid',
      `The key of ${mapping.name} is ${names.join(', ')}: expected ${names.length === 1 ? 'one value' : `${names.length} values`}, got ${words.length}.`,
      { where: 'key' },
    )
  }
  return { key: words.slice(0, names.length), pairs: words.slice(names.length) }
}

/**
 * Reads `prop=value` pairs. On a command line every value is text; what JSON carries as something else is read as that.
 *
 * @throws LedgermanProblem request-invalid for a pair without an equals sign or with an unknown name; value-invalid.
 */
export function parsePairs(mapping: MappingInfo, pairs: readonly string[], nulls: readonly string[]): RecordValues {
  const values: RecordValues = {}
  for (const pair of pairs) {
    const at = pair.indexOf('=')
    if (at < 1)
      throw new LedgermanProblem('request-invalid', `"${pair}": expected property=value, such as hoursLeft=14.50.`, {
        where: pair,
      })
    const name = pair.slice(0, at)
    values[name] = propertyFromText(getProperty(mapping, name), pair.slice(at + 1))
  }
  for (const name of nulls) values[getProperty(mapping, name).name] = null
  return values
}

function getProperty(mapping: MappingInfo, name: string): PropertyInfo {
  const properties = mapping.properties ?? []
  const property = properties.find((each) => each.name === name)
  if (property) return property
  throw new LedgermanProblem(
    'request-invalid',
    `${name} is not a property of ${mapping.name}; ${suggestName(
      name,
      properties.map((each) => each.name),
    )}`,
    { where: name },
  )
}

/** Parts `name=value` at its first equals sign. @throws LedgermanProblem request-invalid */
export function splitPair(pair: string, option: string): [string, string] {
  const at = pair.indexOf('=')
  if (at >= 1) return [pair.slice(0, at), pair.slice(at + 1)]
  throw new LedgermanProblem('request-invalid', `--${option} ${pair}: expected name=value.`, { where: option })
}

/** Collects the values that expressions name as `:name`. */
export function bindValue(pair: string, all: Record<string, string>): Record<string, string> {
  const [name, value] = splitPair(pair, 'bind')
  return { ...all, [name.replace(/^:/, '')]: value }
}
