import { LedgermanProblem, printJson, RawJson, type Json } from '@ledgerman/contract'
import type { Property } from '../mapping/mapping.js'
import { toTextArray } from '../values/text-array.js'
import type { SlotList } from './statement.js'

/**
 * Which parts of a json property a merge patch sets (RFC 7396), told apart from the values themselves: members to remove,
 * members to set, members to go into. Each number names what is bound: a list of names, an object of members, or a name.
 */
export interface MergePlan {
  removed: number | null
  set: number | null
  inside: { name: number; plan: MergePlan }[]
}

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

/** The SQL of the property's value under `alias` with the patch applied. What the patch does not name is not touched. */
export function mergedSql(property: Property, plan: MergePlan, alias: string, slots: SlotList): string {
  const { column, name, sensitive } = property
  const place = (at: number, type: string) =>
    `${slots.add({ name: `${name}:${at}`, type, sensitive, source: { from: 'merged', at } })}::${type}`
  const isJson = column.type.kind === 'json'
  const merged = merge(isJson ? `${alias}.${column.sql}::jsonb` : `${alias}.${column.sql}`, plan)
  return isJson ? `(${merged})::json` : `(${merged})::${column.type.sql}`

  /** Each value stands in the text once, however often it is looked at: so the text grows with the patch, and no faster. */
  function merge(value: string, { removed, set, inside }: MergePlan): string {
    const without = removed === null ? '' : ` operator(pg_catalog.-) ${place(removed, 'text[]')}`
    const others = [
      ...(set === null ? [] : [place(set, 'jsonb')]),
      ...inside.map((part) => {
        const member = place(part.name, 'text')
        return `pg_catalog.jsonb_build_object(${member}, ${merge(`part.v operator(pg_catalog.->) ${member}`, part.plan)})`
      }),
    ]
    const base = `(case when pg_catalog.jsonb_typeof(part.v) operator(pg_catalog.=) 'object' then part.v else '{}'::jsonb end)`
    return `(select ${base}${without}${others.map((other) => ` operator(pg_catalog.||) ${other}`).join('')} from (select ${value}) as part(v))`
  }
}

/** Whether a JSON value is an object, and no `RawJson`. */
export function isObject(value: Json): value is { [name: string]: Json } {
  return value !== null && typeof value === 'object' && !Array.isArray(value) && !(value instanceof RawJson)
}
