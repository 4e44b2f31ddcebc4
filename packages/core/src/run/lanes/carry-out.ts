import { isProblem, LedgermanProblem } from '@ledgerman/contract'
import type { Lane, Sent } from './lane.js'

/** How long before a run is carried out its tables and types may have been asked for, in milliseconds. */
const RESOLVED_BEFORE_MS = 1_000

/** The target of a run, as far as it matters here. */
export interface WorkedOn {
  readonly name: string
  readonly activity: { sent?(lane: Lane<unknown>['name'], state: Sent<unknown>['state'], because?: unknown): void }
  /** Whether what an error says may be so because a table or a type was altered after that moment. */
  isOutdated(error: unknown, since: number): Promise<boolean>
}

/** A run: the ways it may be sent, and how it is told. */
export interface Work<Found, Result> {
  lanes: AsyncIterable<Lane<Found>> | Iterable<Lane<Found>>
  /**
   * Asks the book, where nobody knows whether it was committed. Resolves where it was.
   *
   * @throws LedgermanProblem where it was not, or where the book cannot be asked
   */
  settle(cause: unknown): Promise<void>
  /** What was found and written, as the caller is told. */
  tell(found: Found): Result | Promise<Result>
  /** The same of a committed run out of the book, as far as that can be read. Never throws. */
  tellFromBook(): Promise<Result>
  /** The problem of a run that was rolled back, with its receipt; its entry is written. */
  refuse(error: unknown): Promise<unknown>
  /** The problem of a run that was not committed for certain, or of which nobody knows. Nothing more is written. */
  unsettled(problem: unknown): unknown
}

/**
 * Carries a run out. Its states, of which the README draws a picture: sent one way after another until one takes it; then committed,
 * rehearsed, refused or in doubt; what is in doubt is settled. From `committed` on nothing leads to a refusal.
 *
 * @throws LedgermanProblem of a run that was refused, with the receipt as far as it got; without one where what it works on was altered meanwhile
 */
export async function carryOut<Found, Result>(target: WorkedOn, work: Work<Found, Result>): Promise<Result> {
  const since = performance.now() - RESOLVED_BEFORE_MS
  for await (const lane of work.lanes) {
    const sent = await lane.send()
    target.activity.sent?.(lane.name, sent.state, 'because' in sent ? sent.because : undefined)
    switch (sent.state) {
      case 'passed':
        continue
      case 'rehearsed':
        return work.tell(sent.found)
      case 'committed':
        return told(work, sent.found)
      case 'refused':
        throw (await outdated(target, sent.error, since)) ?? (await work.refuse(sent.error))
      case 'in doubt':
        await work.settle(sent.error).catch((problem: unknown) => {
          throw work.unsettled(problem)
        })
        return work.tellFromBook()
    }
  }
  throw new Error('The last way to send a run has to take it.')
}

/**
 * The problem of a run whose statements no longer fitted, as a table or a type was altered since they were made: undefined where that is not
 * so. It is no refusal of the run, and does not go to the book: done again, it is made for what is there.
 */
async function outdated(target: WorkedOn, error: unknown, since: number): Promise<LedgermanProblem | undefined> {
  if (!(await target.isOutdated(isProblem(error) ? error.cause : error, since))) return undefined
  return new LedgermanProblem(
    'definition-invalid',
    `What it works on was altered in ${target.name} a moment ago. Nothing was changed; try again.`,
    { target: target.name },
    { cause: error },
  )
}

/** It is committed: what cannot be told of it stands in the book. */
async function told<Found, Result>(work: Work<Found, Result>, found: Found): Promise<Result> {
  try {
    return await work.tell(found)
  } catch {
    return work.tellFromBook()
  }
}
