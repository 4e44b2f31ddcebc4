import type { DrillOptions } from '../drill-options.js'
import type { Drilled } from './observe-run.js'
import { ScratchDatabase, type ScratchSource } from './scratch-database.js'

/** Has something done when the work is over, before the database is dropped. */
export type OnEnd = (end: () => unknown) => void

/**
 * Works in a scratch database that is built for these runs, and drops it, whatever comes of it.
 *
 * @throws LedgermanProblem scratch-unavailable, also where it was lost meanwhile: what came of the work says nothing then; and what the work throws
 */
export async function inScratch<T>(
  source: ScratchSource,
  drilled: readonly Drilled[],
  options: Pick<DrillOptions, 'signal'>,
  work: (scratch: ScratchDatabase, onEnd: OnEnd) => Promise<T>,
): Promise<T> {
  const scratch = await ScratchDatabase.build(source, drilled, options)
  const ends: (() => unknown)[] = []
  try {
    const done = await work(scratch, (end) => ends.push(end))
    await scratch.assertThere()
    return done
  } catch (error) {
    throw await scratch.explainLost(error)
  } finally {
    await Promise.allSettled(ends.map(async (end) => end()))
    await scratch.drop()
  }
}
