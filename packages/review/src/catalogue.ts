/** A table as a review has to know it. */
export interface ReviewTable {
  schema: string
  name: string
  columns: {
    name: string
    type: string
    nullable: boolean
    identity: 'always' | 'by default' | null
    generated: boolean
  }[]
  /** Sets of columns that no two rows have alike. */
  keys: string[][]
  primaryKey: string[] | null
  /** The column that counts up with each change, where there is one. */
  guard: string | null
  rows: number | null
}

/** What a database says of a statement that it cannot prepare. */
export interface PrepareProblem {
  /** Its SQLSTATE. */
  code: string
  message: string
  /** The function of PostgreSQL's that refused: unlike the message, the same in every language. */
  routine: string | null
  /** Characters into the statement, from 0. */
  at: number | null
}

/** What a statement is asked of a database without running it. */
export interface Prepared {
  /** The types of its parameters, in order. */
  types: string[]
  problem: PrepareProblem | null
  /** Tables that are read as a whole. */
  scanned: { schema: string; name: string; rows: number }[]
}

/** The tables of a database, from the live catalogue or from a file. */
export interface ReviewCatalogue {
  tables: readonly ReviewTable[]
  /** Schemas in which a name without one is looked for, in order. */
  searchPath: readonly string[]
  /** Only of a live one. */
  prepare?(text: string): Promise<Prepared | undefined>
  /** How many rows share a value of these columns with another, and how many share the most common one. */
  sharing?(table: ReviewTable, columns: readonly string[]): Promise<{ rows: number; most: number } | undefined>
}

/** The table of that name; null where there is none, undefined where it may be one of a schema that is not known. */
export function findTable(
  { tables, searchPath }: ReviewCatalogue,
  { schema, name }: { schema: string | null; name: string },
): ReviewTable | null {
  if (schema !== null) return tables.find((table) => table.schema === schema && table.name === name) ?? null
  for (const each of searchPath) {
    const found = tables.find((table) => table.schema === each && table.name === name)
    if (found) return found
  }
  return null
}
