import type { ColumnType } from '../../values/column-type.js'

export type TableKind = 'table' | 'partitioned table' | 'view' | 'materialized view' | 'foreign table'

export interface Column {
  name: string
  /** The name as it stands in a statement, quoted by the server's own rule where it has to be. */
  sql: string
  type: ColumnType
  /** The collation, where it holds different texts for the same (a nondeterministic one); null otherwise. */
  collation: string | null
  notNull: boolean
  default: string | null
  identity: 'always' | 'by default' | null
  /** Computed by the database from other columns; it can never be set. */
  generated: boolean
  /** False for a column of a view that PostgreSQL cannot pass a change through. */
  updatable: boolean
}

export interface TableKey {
  name: string
  primary: boolean
  columns: string[]
  /** Where the index is partial, the columns that its predicate names: rows outside of it may have the same values. Null where it holds for all. */
  partialOver: string[] | null
}

export interface CheckConstraint {
  name: string
  definition: string
  columns: string[]
}

export interface ForeignKey {
  name: string
  columns: string[]
  /** `schema.table` at the other end. */
  table: string
  otherColumns: string[]
}

export type WriteEvent = 'insert' | 'update' | 'delete'

export interface Trigger {
  name: string
  when: 'before' | 'after' | 'instead of'
  /** On which writes. */
  on: WriteEvent[]
}

/** A trigger behind which a row may be other than its statement returned it. */
export interface AfterTrigger {
  name: string
  /** On which writes of a row that is there afterwards. */
  on: ('insert' | 'update')[]
}

/** What may write other rows when rows of a table are written. */
export interface SideWriter {
  name: string
  by: 'trigger' | 'foreign key' | 'rule'
  /** On which writes. */
  on: WriteEvent[]
  /** Of a foreign key: the table whose rows it removes or changes. */
  table: string | null
  /** Of a foreign key that an update sets off: the columns it refers to; null where any update counts. */
  columns: string[] | null
}

/** One table, view or the like, as the live catalogue describes it. */
export interface Table {
  schema: string
  name: string
  /** `schema.table`, a part quoted in double quotes where it holds a dot, a quote or nothing. */
  path: string
  /** The same as it stands in a statement. */
  sql: string
  kind: TableKind
  columns: Column[]
  /** Unique and not null together, at once (not deferred): what records can be found by. The primary key first. */
  keys: TableKey[]
  /** Every unique constraint or index, for explaining a duplicate. */
  uniques: TableKey[]
  checks: CheckConstraint[]
  references: ForeignKey[]
  referencedBy: ForeignKey[]
  /** Its row triggers; those of partitions and of a view's tables too. */
  triggers: Trigger[]
  /** The triggers that fire after UPDATE or INSERT, for each row or once, or in its place: they may write the same row again, or another one. */
  afterTriggers: AfterTrigger[]
  /** Triggers whose function may write elsewhere, foreign keys that cascade, rules; those of partitions and of a view's tables too. */
  sideWriters: SideWriter[]
  /** What the functions of its triggers say where they refuse, as it stands in them: with `%` for each value. */
  refusals: string[]
  rowSecurity: boolean
  /** Whether the role may read all of it, its row stamp included. */
  isReadable: boolean
  /** Unique constraints that are checked late: no key here, since two rows may have the same value meanwhile. */
  deferrableKeys: string[]
  /** Whether other tables inherit from it: its rows are theirs too, and a key of its own says nothing of those. */
  hasChildren: boolean
  /** Whether rules rewrite what is done to it. */
  hasRules: boolean
  /** A table of its own: without triggers of any kind, rules, or tables that inherit from it. */
  isPlain: boolean
  /** Whether no row can stand in the way of another but by a unique index on columns alone: no exclusion, no unique expression or part. */
  hasPlainKeys: boolean
  /** The planner's estimate; null before the table was first analyzed. */
  approximateRows: number | null
  /** Of the rows, as last counted; null where that is not known, or kept elsewhere (a view, a partitioned table). */
  approximateBytes: number | null
}

/** Finds a column by its name. */
export function findColumn(table: Table, name: string): Column | undefined {
  return table.columns.find((column) => column.name === name)
}

/** Why records of a table cannot be changed one by one; null where they can. */
export function whyUnchangeable({ kind, keys, columns, hasRules, deferrableKeys }: Table): string | null {
  if (kind === 'materialized view') return 'a materialized view is only refreshed'
  if (!columns.some((column) => column.updatable && !column.generated && column.identity !== 'always'))
    return kind === 'view' ? 'PostgreSQL cannot pass a change through this view' : 'none of its columns can be set'
  if (kind === 'view') return null
  if (hasRules) return 'rules rewrite what is done to it'
  if (keys.length > 0) return null
  return deferrableKeys.length > 0
    ? `its key ${deferrableKeys.join(', ')} is deferrable`
    : 'it has no unique key without nulls'
}
