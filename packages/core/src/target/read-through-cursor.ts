import { OWN_NAMES_SQL } from '../sessions/session-settings.js'
import type { Rows } from '../sessions/queryable.js'
import type { Target } from './target.js'

interface CursorRead {
  /** Declares the cursor `found`. */
  text: string
  values: readonly (string | null)[]
  /** Rows fetched at a time: enough to make a round trip worth it, few enough to hold. */
  atATime: number
  /** Of the book: no name means anything but PostgreSQL's own then. */
  isOfBook?: boolean
  signal: AbortSignal | undefined
  /** What to throw for an error. */
  explain: (error: unknown) => unknown
}

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
    const fetch = () => reader.session.query(`fetch ${atATime} from found`)
    let ahead: Promise<Rows> | undefined
    try {
      await reader.session.query('begin')
      if (isOfBook) await reader.session.query(OWN_NAMES_SQL)
      await reader.session.query(text, values)
      ahead = fetch()
      while (ahead) {
        const { rows }: Rows = await ahead
        // The next batch is fetched while this one is taken.
        ahead = rows.length < atATime ? undefined : fetch()
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
