import type { ColumnType } from './column-type.js'

/** The SQL that reads a column in the text form its codec expects. */
export function readSql(expression: string, type: ColumnType): string {
  if (type.kind === 'money') return `${expression}::numeric`
  if (type.element?.kind === 'money') return `${expression}::numeric[]`
  return expression
}

/** The SQL of a bound value as it is stored: cast to the column's own type, modifier and domain included. */
export function storedSql(placeholder: string, type: ColumnType): string {
  if (type.kind === 'money') return `${placeholder}::numeric::${type.sql}`
  if (type.element?.kind === 'money') return `${placeholder}::numeric[]::${type.sql}`
  return `${placeholder}::${type.sql}`
}

/** The SQL of a bound value to compare a column with: the base type, so that nothing is cut off or refused by a domain. */
export function comparedSql(placeholder: string, type: ColumnType): string {
  return type.kind === 'money' ? `${placeholder}::numeric::money` : `${placeholder}::${type.comparable}`
}
