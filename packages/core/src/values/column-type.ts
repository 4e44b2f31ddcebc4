/** The kinds of value that are told apart; docs/values.md has a section for each. */
export const VALUE_KINDS = [
  'boolean',
  'integer',
  'float',
  'bigint',
  'numeric',
  'money',
  'text',
  'enum',
  'date',
  'time',
  'timestamp',
  'timestamptz',
  'interval',
  'bytea',
  'json',
  'jsonb',
  'array',
] as const
export type ValueKind = (typeof VALUE_KINDS)[number]

/** A column's type, with its domains resolved. */
export interface ColumnType {
  /** As PostgreSQL writes it with its modifier, e.g. `numeric(6,2)` or `public.semester`: what a stored value is cast to. */
  sql: string
  /** The base type without modifier, e.g. `numeric`: what a value is cast to for a comparison, so that nothing is cut off. */
  comparable: string
  /** The schema, quoted where it has to be, of the type's own equality: not always where the search path would find one. */
  operators: string
  /** The base type's plain name, e.g. `int4`, `numeric`, `varchar`. */
  name: string
  kind: ValueKind
  /** The domain's name, where the column is of one. */
  domain: string | null
  domainNotNull: boolean
  /** All domains that a value has to satisfy, those of an array's elements included: schema and name. */
  domains: readonly string[]
  /** Characters or bits at most (varchar, char, bit, varbit). */
  length: number | null
  /** Digits in all and behind the point (numeric). */
  precision: { digits: number; scale: number } | null
  /** Digits of a second behind the point that are kept (time, timestamp, interval). */
  fractionDigits: number | null
  /** The fields that an interval keeps, such as `year to month`; null where it keeps all. */
  intervalFields: string | null
  /** An enum's labels in their order. */
  labels: string[] | null
  element: ElementType | null
}

export interface ElementType extends Omit<ColumnType, 'element' | 'domain' | 'domainNotNull' | 'domains'> {
  /** What stands between two elements in the array's text form: a comma for every type but `box`. */
  delimiter: string
}

/** How the catalogue query describes a type. */
export interface TypeRow {
  sql: string
  name: string
  schema: string
  kind: string
  category: string
  typmod: number
  comparable: string
  operators: string | null
  domain: string | null
  domainNotNull: boolean
  domains: string[] | null
  labels: string[] | null
  element:
    | (Pick<TypeRow, 'name' | 'schema' | 'kind' | 'category' | 'comparable' | 'operators' | 'typmod' | 'domains'> & {
        delimiter: string
      })
    | null
}

const BUILT_IN_KINDS: Record<string, ValueKind> = {
  bool: 'boolean',
  int2: 'integer',
  int4: 'integer',
  float4: 'float',
  float8: 'float',
  int8: 'bigint',
  numeric: 'numeric',
  money: 'money',
  date: 'date',
  time: 'time',
  timestamp: 'timestamp',
  timestamptz: 'timestamptz',
  interval: 'interval',
  bytea: 'bytea',
  json: 'json',
  jsonb: 'jsonb',
}

/** Makes a column's type out of its catalogue row. */
export function toColumnType(row: TypeRow): ColumnType {
  const kind = row.element !== null ? 'array' : kindOf(row)
  const element =
    row.element === null
      ? null
      : {
          ...row.element,
          sql: row.element.comparable,
          operators: row.element.operators ?? 'pg_catalog',
          kind: kindOf(row.element),
          labels: row.labels,
          // An array's own modifier is its elements'; a domain among them has its own.
          ...modifiersOf(row.element.name, Math.max(row.typmod, row.element.typmod)),
        }
  return {
    sql: row.sql,
    comparable: row.comparable,
    operators: row.operators ?? 'pg_catalog',
    name: row.name,
    kind,
    domain: row.domain,
    domainNotNull: row.domainNotNull,
    domains: [...(row.domains ?? []), ...(row.element?.domains ?? [])],
    labels: row.labels,
    element,
    ...modifiersOf(row.name, row.typmod),
  }
}

function kindOf(row: Pick<TypeRow, 'name' | 'schema' | 'kind'>): ValueKind {
  if (row.kind === 'e') return 'enum'
  return (row.schema === 'pg_catalog' ? BUILT_IN_KINDS[row.name] : undefined) ?? 'text'
}

/** An interval's fields by their bits in its modifier (PostgreSQL's `INTERVAL_MASK`); all of them are no limit. */
const INTERVAL_FIELDS: Record<number, string> = {
  [1 << 2]: 'year',
  [1 << 1]: 'month',
  [1 << 3]: 'day',
  [1 << 10]: 'hour',
  [1 << 11]: 'minute',
  [1 << 12]: 'second',
  [(1 << 2) | (1 << 1)]: 'year to month',
  [(1 << 3) | (1 << 10)]: 'day to hour',
  [(1 << 3) | (1 << 10) | (1 << 11)]: 'day to minute',
  [(1 << 3) | (1 << 10) | (1 << 11) | (1 << 12)]: 'day to second',
  [(1 << 10) | (1 << 11)]: 'hour to minute',
  [(1 << 10) | (1 << 11) | (1 << 12)]: 'hour to second',
  [(1 << 11) | (1 << 12)]: 'minute to second',
}

/**
 * Reads what a type modifier limits. The encodings are PostgreSQL's own: numeric keeps (precision << 16 | scale) + 4 with
 * the scale in 11 bits, signed; varchar and char keep length + 4; the others keep the number itself, interval in its low
 * 16 bits.
 */
function modifiersOf(
  name: string,
  typmod: number,
): Pick<ColumnType, 'length' | 'precision' | 'fractionDigits' | 'intervalFields'> {
  const none = { length: null, precision: null, fractionDigits: null, intervalFields: null }
  if (name === 'name') return { ...none, length: 63 }
  if (name === 'char') return { ...none, length: 1 }
  if (typmod < 0) return none
  switch (name) {
    case 'numeric': {
      const packed = typmod - 4
      return { ...none, precision: { digits: (packed >> 16) & 0xffff, scale: ((packed & 0x7ff) ^ 1024) - 1024 } }
    }
    case 'varchar':
    case 'bpchar':
      return { ...none, length: typmod - 4 }
    case 'bit':
    case 'varbit':
      return { ...none, length: typmod }
    case 'time':
    case 'timetz':
    case 'timestamp':
    case 'timestamptz':
      return { ...none, fractionDigits: typmod }
    case 'interval':
      return {
        ...none,
        fractionDigits: (typmod & 0xffff) === 0xffff ? null : typmod & 0xffff,
        intervalFields: INTERVAL_FIELDS[(typmod >> 16) & 0x7fff] ?? null,
      }
    default:
      return none
  }
}
