import type { z } from 'zod'
import { findNearestName } from '../nearest-name.js'

/** With more unknown members than these, nobody mistyped a name: the names there are say more than what each is close to. */
const MOST_MISTYPED = 3

/** Who is told of so many knows what is wrong. */
const MOST_NAMED = 20

/** Checks an input as `safeParse` does, and says of a member that nobody knows which there are. */
export function checkInput<Output>(schema: z.ZodType<Output>, input: unknown): z.ZodSafeParseResult<Output> {
  return schema.safeParse(input, TOLD)
}

const TOLD = { error: (issue: z.core.$ZodRawIssue) => sayUnknown(issue) }

/** Refuses a member of an object whose members are told apart by its own rules. */
export function refuseMember(
  context: z.core.$RefinementCtx<Record<string, unknown>>,
  name: string,
  known: readonly string[],
): void {
  const message = sayUnknownMembers([name], known)
  context.addIssue({ code: 'unrecognized_keys', keys: [name], message, input: context.value })
}

function sayUnknown(issue: z.core.$ZodRawIssue): string | undefined {
  if (issue.code !== 'unrecognized_keys') return undefined
  const { def } = (issue.inst as z.core.$ZodType | undefined)?._zod ?? {}
  return sayUnknownMembers(issue.keys, def && 'shape' in def ? Object.keys(def.shape as object) : [])
}

/** `unknown member kye (did you mean key?)`, and the names there are where not each is close to one. */
function sayUnknownMembers(unknown: readonly string[], known: readonly string[]): string {
  const what = `unknown ${unknown.length > 1 ? 'members' : 'member'} ${firstNames(unknown)}`
  const meant = (unknown.length > MOST_MISTYPED ? [] : unknown).flatMap((name) => findNearestName(name, known) ?? [])
  const hints = [
    ...(meant.length > 0 ? [`did you mean ${meant.join(', ')}?`] : []),
    ...(meant.length < unknown.length && known.length > 0 ? [`known: ${known.join(', ')}`] : []),
  ]
  return hints.length === 0 ? what : `${what} (${hints.join(' ')})`
}

/** The first of some names, and how many there are beside them. */
export function firstNames(names: readonly string[]): string {
  const left = names.length - MOST_NAMED
  return names.slice(0, MOST_NAMED).join(', ') + (left > 0 ? ` and ${left} more` : '')
}
