import type { Mapping, Property } from '../mapping/mapping.js'
import { operatorPlace, operatorSql } from '../values/operator-sql.js'
import { imagesDifferSql, pairsOf } from './image-sql.js'
import { freshNames } from './keyed-statement.js'

/** How new values are written that a part `hit` of the statement has beside the old ones. */
export interface SetSql {
  /** What each new value is called in `hit`. */
  names: string[]
  /** Whether any of them differs from what is there. */
  differs: string
  /** What stands behind SET. */
  assignments: string
}

/** The SQL that sets these properties, and counts the version on where Ledgerman does that. */
export function setSql(mapping: Mapping, properties: readonly Property[]): SetSql {
  const names = properties.map((_, at) => freshNames(mapping, [`new_${at + 1}`])[`new_${at + 1}`] ?? '')
  const columns = properties.map(({ column }) => column.sql)
  const news = names.map((name) => `hit.${name}`)
  return {
    names,
    differs: imagesDifferSql(pairsOf('hit', properties, news)),
    assignments: [...columns.map((column, at) => `${column} = ${news[at]}`), ...versionBumpSql(mapping, 'hit')].join(
      ', ',
    ),
  }
}

/** The assignment that counts a version on, where Ledgerman does that; none elsewhere. `alias` is where the version of before is. */
export function versionBumpSql({ guard }: Pick<Mapping, 'guard'>, alias: string): string[] {
  if (guard.by !== 'version' || guard.bumpedBy === 'database') return []
  const { sql, type } = guard.property.column
  return [`${sql} = ${alias}.${sql} ${operatorSql('+', operatorPlace(type))} 1`]
}
