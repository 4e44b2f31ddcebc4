import { settle, type LostCommit } from '../book/settle.js'
import type { Target } from '../target/target.js'
import type { Lane } from './lane.js'

/** A run: the ways it may be sent, and how it is told. */
export interface Work<Found, Result> {
  lanes: AsyncIterable<Lane<Found>> | Iterable<Lane<Found>>
  /** What the book says of it, should nobody know whether it was committed. */
  lost: LostCommit
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
 * @throws LedgermanProblem of a run that was refused, with the receipt as far as it got
 */
export async function carryOut<Found, Result>(target: Target, work: Work<Found, Result>): Promise<Result> {
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
        throw await work.refuse(sent.error)
      case 'in doubt':
        await settle(target, work.lost, sent.error).catch((problem: unknown) => {
          throw work.unsettled(problem)
        })
        return work.tellFromBook()
    }
  }
  throw new Error('The last way to send a run has to take it.')
}

/** It is committed: what cannot be told of it stands in the book. */
async function told<Found, Result>(work: Work<Found, Result>, found: Found): Promise<Result> {
  try {
    return await work.tell(found)
  } catch {
    return work.tellFromBook()
  }
}
