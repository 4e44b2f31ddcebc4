import type { ColumnType } from './column-type.js'

/**
 * Types of which PostgreSQL itself has each operator for just these: between two values of one of them its own is chosen, whatever
 * somebody has put into the search path, in which `pg_catalog` comes first.
 */
const EXACT = new Set(
  'bool int2 int4 int8 float4 float8 numeric money text bpchar uuid date time timetz timestamp timestamptz interval bytea jsonb inet oid bit varbit'.split(
    ' ',
  ),
)

/** Where an operator is looked for; null where the search path cannot lead astray. */
export type OperatorPlace = string | null

/** Where the operators of a type are, between two values of that type. */
export function operatorPlace({ name, domain, operators, element }: ColumnType): OperatorPlace {
  if (operators !== PG_CATALOG) return operators
  return domain === null && element === null && EXACT.has(name) ? null : PG_CATALOG
}

export const PG_CATALOG = 'pg_catalog'

/** An operator as it stands between two values, by its schema where it has to be. */
export function operatorSql(operator: string, place: OperatorPlace): string {
  return place === null ? operator : `operator(${place}.${operator})`
}

/** Whether two values of a type are equal: by the type's own equality. */
export function equalSql(one: string, other: string, type: ColumnType): string {
  return `${one} ${operatorSql('=', operatorPlace(type))} ${other}`
}

/** Whether values of two types are equal, such as the ends of a link. */
export function equalAcrossSql(one: string, other: string, oneType: ColumnType, otherType: ColumnType): string {
  if (oneType.name === otherType.name && oneType.domain === null && otherType.domain === null)
    return equalSql(one, other, oneType)
  const own = [oneType, otherType].find(({ operators }) => operators !== PG_CATALOG)
  return `${one} ${operatorSql('=', own?.operators ?? PG_CATALOG)} ${other}`
}
