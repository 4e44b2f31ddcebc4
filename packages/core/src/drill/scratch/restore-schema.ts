import { parseSync } from 'libpg-query'
import { isDatabaseError } from '../../sessions/database-error.js'
import { loadGrammar } from '../../plan/load-grammar.js'
import type { Queryable } from '../../sessions/queryable.js'

const MOST_NOTES = 50

/**
 * Runs the statements of a dump: all at once, and where one of them fails one by one, so that what can be restored is.
 *
 * @returns what could not be restored, and why.
 */
export async function restoreSchema(session: Queryable, sql: string): Promise<string[]> {
  try {
    await session.query(sql)
    return []
  } catch (error) {
    if (!isDatabaseError(error)) throw error
    await session.query('rollback')
  }
  await loadGrammar()
  // What fails may need what comes later in the dump, or what has failed itself: once more at the end.
  let left = statementsOf(sql)
  let failed: { statement: string; why: string }[] = []
  for (const pass of [1, 2]) {
    failed = []
    for (const statement of left) {
      const why = await session.query(statement).then(
        () => null,
        (error: unknown) => (isDatabaseError(error) ? error.message : Promise.reject(error as Error)),
      )
      if (why !== null) failed.push({ statement, why })
    }
    left = failed.map(({ statement }) => statement)
    if (pass === 1 && left.length === 0) break
  }
  return failed.slice(0, MOST_NOTES).map(({ statement, why }) => `Not restored: ${firstLine(statement)} (${why}).`)
}

/** Splits the text by the grammar, since bodies of functions hold semicolons too. Places are in bytes. */
function statementsOf(sql: string): string[] {
  const bytes = Buffer.from(sql)
  const { stmts } = parseSync(sql) as { stmts: { stmt_location?: number; stmt_len?: number }[] }
  return stmts.map(({ stmt_location: at = 0, stmt_len: length }) =>
    bytes.subarray(at, length === undefined ? undefined : at + length).toString(),
  )
}

function firstLine(statement: string): string {
  const line =
    statement
      .split('\n')
      .map((each) => each.trim())
      .find((each) => each !== '' && !each.startsWith('--')) ?? ''
  return line.length > 120 ? `${line.slice(0, 119)}…` : line
}
