import type { z } from 'zod'
import { printJson } from '../json/exact-json.js'

/** One thing wrong with an input: where, what was wanted, what came. */
export interface InputIssue {
  where: string
  message: string
}

/**
 * Puts Zod's findings in the form "what, wanted, got". The value that came is added unless its place is secret, since
 * Zod itself gives only its type.
 */
export function describeIssues(error: z.ZodError, input: unknown, isSecret: (where: string) => boolean = () => false) {
  return error.issues.map((issue): InputIssue => {
    const where = issue.path.map(String).join('.') || 'body'
    if (issue.code === 'unrecognized_keys') {
      return { where, message: `unknown ${issue.keys.length > 1 ? 'members' : 'member'} ${issue.keys.join(', ')}` }
    }
    if (issue.code === 'invalid_key') {
      const name = JSON.stringify(String(issue.path.at(-1)))
      return { where, message: `${name} is no name. In YAML a text with commas, colons or braces in it needs quotes` }
    }
    const value = valueAt(input, issue.path)
    const got = isSecret(where)
      ? 'a value that is not shown'
      : value === undefined
        ? 'nothing'
        : abridge(printJson(value))
    return { where, message: `${issue.message.replace(/, received .*$/, '')}, got ${got}` }
  })
}

function valueAt(input: unknown, path: readonly PropertyKey[]): unknown {
  return path.reduce<unknown>(
    (value, name) =>
      value !== null && typeof value === 'object' ? (value as Record<PropertyKey, unknown>)[name] : undefined,
    input,
  )
}

function abridge(text: string): string {
  return text.length > 80 ? `${text.slice(0, 77)}…` : text
}
