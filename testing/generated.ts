import fc from 'fast-check'

/** How long a test may take; ms. Whoever asks for more rounds gives more. Jest's own limit is the same. */
const LIMIT_MS = Number(process.env['LEDGERMAN_TEST_LIMIT_MS'] ?? 120_000)

/**
 * Checks a property of the database or the service for so many generated cases.
 *
 * Ends before Jest does: a case that hangs, and a search for a smaller one that takes long, are told with the case
 * that failed, where Jest says only that time was up.
 *
 * @param endOnFailure where one case builds on what another left: a smaller one is not looked for.
 * @throws with the seed and the smallest case found for which the property does not hold.
 */
export function holdsFor<T>(
  numRuns: number,
  property: fc.IAsyncPropertyWithHooks<T>,
  { endOnFailure = false } = {},
): Promise<void> {
  return fc.assert(property, { numRuns, endOnFailure, timeout: LIMIT_MS / 4, interruptAfterTimeLimit: LIMIT_MS / 2 })
}
