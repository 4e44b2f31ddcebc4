import { LedgermanProblem, printJson, RawJson, type Json } from '@ledgerman/contract'
import type { Property } from '../mapping/mapping.js'
import type { SlotList } from './statement.js'

/**
 * Which parts of a json property a merge patch sets (RFC 7396), told apart from the values themselves: members to remove,
 * members to set, members to go into. `at` numbers a bound name or value.
 */
export interface MergePlan {
  /** Numbers of the bound names of members to remove. */
  removed: number[]
  set: { name: number; value: number }[]
  inside: { name: number; plan: MergePlan }[]
}

/** How deep a merge may go: deeper than any document a person edits, shallow enough for the server's own stack. */
const DEEPEST = 50

/**
 * Reads a merge patch for one json property.
 *
 * @param bound collects the names and values the plan numbers.
 * @throws LedgermanProblem value-invalid where it goes too deep.
 */
export function planMerge(property: string, patch: { [name: string]: Json }, bound: string[], depth = 1): MergePlan {
  if (depth > DEEPEST)
    throw new LedgermanProblem('value-invalid', `${property}: expected a patch at most ${DEEPEST} objects deep.`, {
      where: property,
      properties: [property],
    })
  const plan: MergePlan = { removed: [], set: [], inside: [] }
  for (const [name, value] of Object.entries(patch)) {
    const number = bound.push(name) - 1
    if (value === null) plan.removed.push(number)
    else if (isObject(value)) plan.inside.push({ name: number, plan: planMerge(property, value, bound, depth + 1) })
    else plan.set.push({ name: number, value: bound.push(printJson(value)) - 1 })
  }
  return plan
}

/** The SQL of the property's value under `alias` with the patch applied. What the patch does not name is not touched. */
export function mergedSql(property: Property, plan: MergePlan, alias: string, slots: SlotList): string {
  const { column, name, sensitive } = property
  const place = (at: number, type: string) =>
    `${slots.add({ name: `${name}:${at}`, type, sensitive, source: { from: 'merged', at } })}::${type}`
  const current = `${alias}.${column.sql}`
  const merged = merge(column.type.kind === 'json' ? `${current}::jsonb` : current, plan)
  return column.type.kind === 'json' ? `(${merged})::json` : `(${merged})::${column.type.sql}`

  function merge(value: string, { removed, set, inside }: MergePlan): string {
    let sql = `case when jsonb_typeof(${value}) = 'object' then ${value} else '{}'::jsonb end`
    if (removed.length > 0) sql = `(${sql}) - array[${removed.map((at) => place(at, 'text')).join(', ')}]`
    for (const part of set)
      sql = `(${sql}) || jsonb_build_object(${place(part.name, 'text')}, ${place(part.value, 'jsonb')})`
    for (const part of inside)
      sql = `(${sql}) || jsonb_build_object(${place(part.name, 'text')}, ${merge(`(${value} -> ${place(part.name, 'text')})`, part.plan)})`
    return sql
  }
}

/** Whether a JSON value is an object, and no `RawJson`. */
export function isObject(value: Json): value is { [name: string]: Json } {
  return value !== null && typeof value === 'object' && !Array.isArray(value) && !(value instanceof RawJson)
}
