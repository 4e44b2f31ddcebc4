import colors from 'picocolors'
import { countOf } from '@ledgerman/client'

/**
 * How many rows are not shown, and the ways to them: a receipt or report holds some of the rows that were changed, and the book all that were committed.
 *
 * @param held the rows that it holds
 * @param most how many of them are shown
 * @param entries those that hold all; none where nothing was committed
 * @returns nothing where all are shown
 */
export function moreRows(held: number, most: number, changed: number, entries: readonly string[]): string[] {
  const shown = Math.min(held, most)
  // Of what was refused no row is held, and none was changed in the end.
  const isRefused = held === 0 && entries.length === 0
  if (changed <= shown || isRefused) return []
  const [entry] = entries
  const ways = [
    ...(held > shown ? [`--full shows ${held}`] : []),
    // Without images there is nothing to show.
    ...(entry !== undefined && held > 0 && held < changed
      ? [`all${entries.length > 1 ? ' of an entry' : ''}: ledgerman book show ${entry} --csv`]
      : []),
  ]
  return [colors.dim([`… and ${countOf(changed - shown, 'more row')}`, ...ways].join('; '))]
}
