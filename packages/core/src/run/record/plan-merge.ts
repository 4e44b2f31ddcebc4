import { LedgermanProblem, printJson, RawJson, type Json } from '@ledgerman/contract'
import type { MergePlan } from '../../statement/merge-sql.js'
import { toTextArray } from '../../sessions/text-array.js'

/** How deep a merge may go: deeper than any document a person edits, shallow enough for the server's own stack. */
const DEEPEST = 50

/** How many objects a merge may go into: each is a part of the statement. */
const MOST_INSIDE = 200

/**
 * Reads a merge patch for one json property.
 *
 * @param bound collects the names and values the plan numbers.
 * @throws LedgermanProblem value-invalid where it goes too deep, or into too many objects.
 */
export function planMerge(property: string, patch: { [name: string]: Json }, bound: string[]): MergePlan {
  let inside = 0
  return planFor(patch, 1)

  function planFor(part: { [name: string]: Json }, depth: number): MergePlan {
    if (depth > DEEPEST) throw tooLarge(`a patch at most ${DEEPEST} objects deep`)
    const plan: MergePlan = { removed: null, set: null, inside: [] }
    const removed: string[] = []
    const set: string[] = []
    for (const [name, value] of Object.entries(part)) {
      if (value === null) removed.push(name)
      else if (isObject(value)) {
        if (++inside > MOST_INSIDE) throw tooLarge(`a patch that goes into at most ${MOST_INSIDE} objects`)
        plan.inside.push({ name: bound.push(name) - 1, plan: planFor(value, depth + 1) })
      } else set.push(`${JSON.stringify(name)}:${printJson(value)}`)
    }
    if (removed.length > 0) plan.removed = bound.push(toTextArray(removed)) - 1
    if (set.length > 0) plan.set = bound.push(`{${set.join(',')}}`) - 1
    return plan
  }

  function tooLarge(expected: string): LedgermanProblem {
    return new LedgermanProblem('value-invalid', `${property}: expected ${expected}.`, {
      where: property,
      properties: [property],
    })
  }
}

/** Whether a JSON value is an object, and no `RawJson`. */
export function isObject(value: Json): value is { [name: string]: Json } {
  return value !== null && typeof value === 'object' && !Array.isArray(value) && !(value instanceof RawJson)
}
