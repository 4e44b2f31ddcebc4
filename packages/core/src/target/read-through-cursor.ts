import { LONGEST_ANSWER, OWN_NAMES_SQL } from '../sessions/session-settings.js'
import type { Rows } from '../sessions/queryable.js'
import type { Target } from './target.js'

interface CursorRead {
  /** Declares the cursor `found`. */
  text: string
  values: readonly (string | null)[]
  /** Rows fetched at a time at most: enough to make a round trip worth it. Fewer where they are large. */
  atATime: number
  /** Of the book: no name means anything but PostgreSQL's own then. */
  isOfBook?: boolean
  signal: AbortSignal | undefined
  /** What to throw for an error. */
  explain: (error: unknown) => unknown
}

/** The part of what an answer may hold that a batch does, where its rows are as large as the largest before. */
const BATCH_PART = 1 / 16
/** How large the rows are is not known at first. */
const FIRST_ROWS = 10
const MOST_GROWTH = 20

/**
 * Reads rows as they are at one moment, in batches, as their reader takes them: never more than two are held. It takes one of the places
 * for exports until it ends.
 *
 * @throws LedgermanProblem too-many-requests; and what `explain` gives, from the batches
 */
export function readThroughCursor<T>(
  target: Target,
  read: CursorRead,
  toItem: (row: Rows['rows'][number]) => T,
): AsyncGenerator<T[], void, undefined> {
  return fetchBatches(target, read, toItem, target.beginExport())
}

async function* fetchBatches<T>(
  target: Target,
  { text, values, atATime, isOfBook, signal, explain }: CursorRead,
  toItem: (row: Rows['rows'][number]) => T,
  leave: () => void,
): AsyncGenerator<T[], void, undefined> {
  try {
    const reader = await target.openReader(signal)
    // Large ones may stand behind many that are small.
    reader.session.takeUpTo(LONGEST_ANSWER)
    let most = Math.min(FIRST_ROWS, atATime)
    let largest = 1
    const fetch = (): Promise<Rows> => reader.session.query(`fetch ${most} from found`)
    let ahead: Promise<Rows> | undefined
    try {
      await reader.session.query('begin')
      if (isOfBook) await reader.session.query(OWN_NAMES_SQL)
      await reader.session.query(text, values)
      ahead = fetch()
      while (ahead) {
        const { rows }: Rows = await ahead
        const isLast: boolean = rows.length < most
        for (const row of rows) largest = Math.max(largest, lengthOf(row))
        most = Math.max(
          1,
          Math.min(atATime, most * MOST_GROWTH, Math.floor((target.limits.answerBytes * BATCH_PART) / largest)),
        )
        // The next batch is fetched while this one is taken.
        ahead = isLast ? undefined : fetch()
        ahead?.catch(() => undefined)
        if (rows.length > 0) yield rows.map(toItem)
      }
    } catch (error) {
      throw reader.failed(error)
    } finally {
      await ahead?.catch(() => undefined)
      await reader.session.query('rollback').catch((error: unknown) => reader.failed(error))
      await reader.close()
    }
  } catch (error) {
    throw await explain(error)
  } finally {
    leave()
  }
}

function lengthOf(row: Rows['rows'][number]): number {
  return row.reduce((length, value) => length + (value?.length ?? 0), 0)
}
