/** What is cancelled as it is overdue may still answer for so many milliseconds: a COMMIT that waited for a standby says that it is done. */
const LAST_WORDS_MS = 1_000

/**
 * Asks something that the driver gives up after so many milliseconds, and has it cancelled before that: the server would go on with it, and
 * keep its locks. A COMMIT that waits for a standby has no time limit of the server's.
 */
export function orCancelled<T>(limitMs: number, cancel: () => void, ask: () => Promise<T>): Promise<T> {
  const overdue = setTimeout(cancel, limitMs - LAST_WORDS_MS)
  return ask().finally(() => clearTimeout(overdue))
}
