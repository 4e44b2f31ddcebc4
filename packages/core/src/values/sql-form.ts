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

/**
 * The SQL of a computed value as it is stored. A cast would cut off what is too long without a word, so the lengths are held to as an assignment holds
 * to them: what does not fit is refused (22001).
 */
export function computedSql(expression: string, type: ColumnType): string {
  const { name, length, domain, element } = type
  const typeModifier = length === null ? 0 : length + (HEADER[name] ?? 0)
  if (length !== null && name in HEADER) {
    // The functions behind PostgreSQL's own assignments (pg_cast, of a type to itself): value, type modifier, whether the cast was asked for.
    const held = `pg_catalog."${name}"((${expression})::${type.comparable}, ${typeModifier}, false)`
    return domain === null ? held : `${held}::${type.sql}`
  }
  if (length !== null)
    return `pg_catalog."varchar"((${expression})::text::character varying, ${length + VARHDRSZ}, false)::${type.sql}`
  // The assignment itself holds to it, for each element.
  const isHeldLater = domain === null && element !== null && element.length !== null
  return `(${expression})::${isHeldLater ? type.comparable : type.sql}`
}

/** What PostgreSQL adds to a length in a type modifier (`VARHDRSZ`). */
const VARHDRSZ = 4
const HEADER: Readonly<Record<string, number>> = { varchar: VARHDRSZ, bpchar: VARHDRSZ, bit: 0, varbit: 0 }
