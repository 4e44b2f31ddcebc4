import { Option } from 'commander'
import { propertyFromText } from '@ledgerman/client'
import {
  LedgermanProblem,
  printJson,
  suggestName,
  type MappingInfo,
  type PropertyInfo,
  type RecordValues,
} from '@ledgerman/contract'
import { givenTwice } from './run-arguments.js'

/**
 * Splits the arguments of a keyed command into the key values, as many as the key has, and the `prop=value` pairs behind them. A key
 * value may have its property's name before it, as in `code=P-107`; one that looks like another property's pair is taken for that, and
 * a key that was forgotten.
 *
 * @param by the properties of another unique key, as in `email`.
 * @throws LedgermanProblem request-invalid, no-key
 */
export function splitArguments(
  mapping: MappingInfo,
  words: readonly string[],
  by?: string,
): { key: string[]; pairs: string[] } {
  const names = by === undefined ? mapping.key : by.split(',').map((name) => name.trim())
  if (names.length === 0) {
    throw new LedgermanProblem(
      'no-key',
      `${mapping.table} has no unique key without nulls, and ${mapping.name} names none: its records cannot be told from one another.`,
      { mapping: mapping.name },
    )
  }
  const key = words.slice(0, names.length).map((word, at) => keyValue(mapping, names, word, at))
  if (words.length < names.length) {
    throw new LedgermanProblem(
      'request-invalid',
      `The key of ${mapping.name} is ${names.join(', ')}: expected ${names.length === 1 ? 'one value' : `${names.length} values`}, got ${words.length}.`,
      { where: 'key' },
    )
  }
  return { key, pairs: words.slice(names.length) }
}

function keyValue(
  { name: mapping, properties }: MappingInfo,
  names: readonly string[],
  word: string,
  at: number,
): string {
  const own = names[at] ?? ''
  if (word.startsWith(`${own}=`)) return word.slice(own.length + 1)
  const other = properties?.find(({ name }) => word.startsWith(`${name}=`))
  if (!other) return word
  throw new LedgermanProblem(
    'request-invalid',
    `"${word}" stands where the ${own} of the ${mapping} belongs, and looks like a value for ${other.name}. The key comes first: ${names.join(', ')}. If it really is the key, write ${own}=${word}.`,
    { where: 'key', key: names },
  )
}

/** The key of a record that was loaded, as a command line or an address has it. */
export function keyOfRecord({ key }: MappingInfo, record: RecordValues): string[] {
  return key.map((name) => {
    const value = record[name]
    return typeof value === 'string' ? value : printJson(value)
  })
}

/**
 * Reads `prop=value` pairs. On a command line every value is text; what JSON carries as something else is read as that.
 *
 * @throws LedgermanProblem request-invalid for a pair without an equals sign, with an unknown name, or for a property that is set twice;
 *   value-invalid.
 */
export function parsePairs(mapping: MappingInfo, pairs: readonly string[], nulls: readonly string[]): RecordValues {
  const values: RecordValues = {}
  const set = (name: string, value: unknown) => {
    if (Object.hasOwn(values, name))
      throw new LedgermanProblem('request-invalid', `${name} is set twice. Say once what it is to be.`, { where: name })
    values[name] = value
  }
  for (const pair of pairs) {
    const at = pair.indexOf('=')
    if (at < 1)
      throw new LedgermanProblem('request-invalid', `"${pair}": expected property=value, such as hoursLeft=14.50.`, {
        where: pair,
      })
    const property = getProperty(mapping, pair.slice(0, at))
    set(property.name, propertyFromText(property, pair.slice(at + 1)))
  }
  for (const name of nulls) set(getProperty(mapping, name).name, null)
  return values
}

function getProperty(mapping: MappingInfo, name: string): PropertyInfo {
  const properties = mapping.properties ?? []
  const property = properties.find((each) => each.name === name)
  if (property) return property
  if (mapping.drift !== null) throw new LedgermanProblem('definition-invalid', mapping.drift)
  const hint =
    hintOfPath(mapping, name) ??
    suggestName(
      name,
      properties.map((each) => each.name),
    )
  throw new LedgermanProblem('request-invalid', `${name} is not a property of ${mapping.name}. ${hint}`, {
    where: name,
  })
}

/** Whether a property holds a JSON value, which has members. */
export function isJsonKind({ kind }: PropertyInfo): boolean {
  return kind === 'json' || kind === 'jsonb'
}

/** What to do where a path is meant for a property: into a json value, or along a link. */
function hintOfPath({ properties, definition }: MappingInfo, path: string): string | undefined {
  const [first = '', ...rest] = path.split('.')
  if (rest.length === 0) return undefined
  if (properties?.some((property) => property.name === first && isJsonKind(property)))
    return `${first} is one JSON value: give it whole, or the members to set with change --merge '${first}={${JSON.stringify(rest[0])}: …}'.`
  const link = definition.links?.[first]
  return link && `${first} is a link: change the ${link.mapping} itself.`
}

/** Splits `name=value` at its first equals sign. @throws LedgermanProblem request-invalid */
export function splitPair(pair: string, option: string): [string, string] {
  const at = pair.indexOf('=')
  if (at >= 1) return [pair.slice(0, at), pair.slice(at + 1)]
  throw new LedgermanProblem('request-invalid', `--${option} ${pair}: expected name=value.`, { where: option })
}

/** The values of parameters, by name. */
export function paramOption(description: string): Option {
  return new Option('--bind, --param <name=value>', description).argParser(bindValue).default({}, 'none')
}

/** Collects the values that expressions name as `:name`. */
function bindValue(pair: string, all: Record<string, string>): Record<string, string> {
  const [given, value] = splitPair(pair, 'param')
  const name = given.replace(/^:/, '')
  if (Object.hasOwn(all, name)) throw givenTwice(name)
  return { ...all, [name]: value }
}
