import type { Property } from '../mapping/mapping.js'
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
