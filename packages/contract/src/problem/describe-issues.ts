import type { z } from 'zod'
import { printJson, RawJson } from '../json/exact-json.js'

/** One thing wrong with an input: where, what was wanted, what came. */
export interface InputIssue {
  where: string
  message: string
}

/** A finding in one line. */
export const sayIssue = ({ where, message }: InputIssue) => (where === '' ? message : `${where}: ${message}`)

/** How much is told of a value, in characters. */
const LONGEST = 80

/** Who is told of so many corrects those, and is told of the others then. */
const MOST_ISSUES = 50

/**
 * Puts the findings of `checkInput` in the form "what, wanted, got". The value that came is added unless its place is secret, since
 * Zod itself gives only its type.
 *
 * @param whole the place of what is wrong with the input as a whole
 */
export function describeIssues(
  error: z.ZodError,
  input: unknown,
  { whole = '', isSecret = () => false }: { whole?: string; isSecret?: (where: string) => boolean } = {},
) {
  const issues = error.issues.slice(0, MOST_ISSUES).map((issue): InputIssue => {
    // Steps, rules and the like are counted from 1, here as everywhere.
    const where = issue.path.map((name) => String(typeof name === 'number' ? name + 1 : name)).join('.') || whole
    if (issue.code === 'unrecognized_keys') return { where, message: issue.message }
    if (issue.code === 'invalid_key') {
      const name = JSON.stringify(String(issue.path.at(-1)))
      return { where, message: `${name} is no name. In YAML a text with commas, colons or braces in it needs quotes` }
    }
    const value = valueAt(input, issue.path)
    const got = isSecret(where)
      ? 'a value that is not shown'
      : value === undefined
        ? 'nothing'
        : abridge(printJson(beginningOf(value)))
    const message = inPlainWords(issue.message)
    return { where, message: message.includes(', got ') ? message : `${message}, got ${got}` }
  })
  const left = error.issues.length - issues.length
  return left === 0 ? issues : [...issues, { where: whole, message: `${left} more parts are not valid` }]
}

/** The types of JSON as they are said in a sentence. */
const TYPES: Readonly<Record<string, string>> = {
  string: 'a string',
  number: 'a number',
  int: 'a whole number',
  boolean: 'true or false',
  array: 'a list',
  object: 'an object',
  record: 'an object',
}

/** Zod's own words as we would say them. */
function inPlainWords(message: string): string {
  return message
    .replace(/, received .*$/, '')
    .replace(/^Invalid input: expected (\w+)$/, (_, type: string) => `expected ${TYPES[type] ?? type}`)
    .replace(/^Invalid input: expected/, 'expected')
    .replace(/^Invalid option: expected one of (.*)$/, (_, options: string) => `expected one of ${listed(options)}`)
    .replace(/^Invalid option: expected/, 'expected')
    .replace(/^Too small: expected (?:array|set|record) to have >=(\d+) items?/, 'expected at least $1')
    .replace(/^Too big: expected (?:array|set|record) to have <=(\d+) items?/, 'expected at most $1')
    .replace(/^Too small: expected string to have >=1 characters?/, 'expected a text that is not empty')
    .replace(/^Too small: expected string to have >=(\d+) characters?/, 'expected at least $1 characters')
    .replace(/^Too big: expected string to have <=(\d+) characters?/, 'expected at most $1 characters')
    .replace(/^Too small: expected \w+ to be >=(.*)$/, 'expected $1 or more')
    .replace(/^Too big: expected \w+ to be <=(.*)$/, 'expected $1 or less')
    .replace(/^Too small: expected \w+ to be >(.*)$/, 'expected more than $1')
    .replace(/^Too big: expected \w+ to be <(.*)$/, 'expected less than $1')
}

function listed(options: string): string {
  return options.replaceAll('|', ', ').replaceAll('"', '')
}

function valueAt(input: unknown, path: readonly PropertyKey[]): unknown {
  return path.reduce<unknown>(
    (value, name) =>
      value !== null && typeof value === 'object' ? (value as Record<PropertyKey, unknown>)[name] : undefined,
    input,
  )
}

/** As much of a value as is told of it, and some more. */
function beginningOf(value: unknown): unknown {
  if (typeof value === 'string') return value.slice(0, LONGEST + 1)
  if (value === null || typeof value !== 'object' || value instanceof RawJson) return value
  if (Array.isArray(value)) return value.slice(0, LONGEST).map(beginningOf)
  const members: [string, unknown][] = []
  for (const name in value) {
    if (members.length === LONGEST) break
    members.push([name, beginningOf((value as Record<string, unknown>)[name])])
  }
  return Object.fromEntries(members)
}

function abridge(text: string): string {
  return text.length > LONGEST ? `${text.slice(0, LONGEST - 3)}…` : text
}
