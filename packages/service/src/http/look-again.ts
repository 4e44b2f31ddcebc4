import { isProblem, type ProblemCode } from '@ledgerman/contract'
import type { Call, Reply } from './route.js'

/** What is refused for what is known of the target's tables and types. */
const BY_THE_CATALOGUE: readonly ProblemCode[] = [
  'value-invalid',
  'expression-invalid',
  'definition-invalid',
  'refused-by-database',
  'no-key',
]

/** How often a call is answered anew: what takes long to read is known only the next time. */
const MOST_AGAIN = 2

/** Reads again what was used of a target's catalogue since then, in milliseconds of `performance.now`; whether some of it was altered. */
export type LookAgain = (target: string, since: number) => Promise<boolean>

/**
 * Answers a call. Tables and types are known from a reading some seconds old: before a call is refused by it they are read again, and where
 * one was altered the call is answered anew. A refusal with a receipt is final: its run has been told, and may stand in the book.
 */
export async function answerAsItIs<SomeCall extends Call<never, never>>(
  call: SomeCall,
  handle: (call: SomeCall) => Promise<Reply>,
  lookAgain: LookAgain,
): Promise<Reply> {
  const { target } = call.params
  for (let again = 0; ; again++) {
    const begunAt = performance.now()
    try {
      return await handle(call)
    } catch (error) {
      const isDoubtful = BY_THE_CATALOGUE.some((code) => isProblem(error, code)) && !hasReceipt(error)
      if (target === undefined || !isDoubtful || again === MOST_AGAIN || !(await lookAgain(target, begunAt)))
        throw error
    }
  }
}

function hasReceipt(error: unknown): boolean {
  return isProblem(error) && error.facts['receipt'] !== undefined
}
