import { isProblem, LedgermanProblem } from '@ledgerman/contract'

/** What a run is called among several: A, B, C. */
export function nameOfRun(at: number): string {
  return String.fromCharCode(65 + at)
}

/**
 * Does what concerns one of several runs, and tells what is wrong with it as that run's.
 *
 * @param at which one, from 0; undefined where there is only one
 * @throws what `work` throws
 */
export async function ofRun<T>(at: number | undefined, work: () => Promise<T>): Promise<T> {
  try {
    return await work()
  } catch (error) {
    if (at === undefined || !isProblem(error) || error.code === 'target-unavailable') throw error
    // The words have all that was found.
    const { where, findings: _, ...facts } = error.facts
    const place = typeof where === 'string' ? `runs.${at}.${where}` : `runs.${at}`
    throw new LedgermanProblem(
      error.code,
      `Run ${nameOfRun(at)}: ${error.detail}`,
      { ...facts, where: place },
      { cause: error.cause },
    )
  }
}
