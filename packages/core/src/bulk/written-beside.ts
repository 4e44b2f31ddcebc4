import type { JobReport } from '@ledgerman/contract'
import { writtenBeside } from '../mapping/side-writes.js'
import { countWrittenWithIt, toldBeside, type WrittenWithIt } from '../run/record/written-with-it.js'
import type { Queryable } from '../sessions/queryable.js'
import type { BulkRequest } from './bulk-request.js'
import type { BulkShape } from './bulk-shape.js'
import type { UnitResult } from './unit-options.js'

/**
 * Begins to count, of a rehearsal, what triggers, rules and foreign keys write beside the rows of a part.
 *
 * @returns what to ask when all is written; undefined where nobody counts
 */
export function countBeside(
  session: Queryable,
  { mapping, kind, set, given }: BulkShape,
  { mode }: BulkRequest,
): Promise<(() => Promise<WrittenWithIt>) | undefined> {
  if (mode !== 'rehearse') return Promise.resolve(undefined)
  const kinds = given?.addsMissing ? [kind, 'add' as const] : [kind]
  return countWrittenWithIt(
    session,
    kinds.map((each) => ({ mapping, kind: each, set })),
  )
}

/** What the report of a part says of it: the counts, or in words what may be. */
export async function besideOf(
  { mapping, set }: BulkShape,
  { failed, steps }: UnitResult,
  count: (() => Promise<WrittenWithIt>) | undefined,
): Promise<Pick<JobReport, 'writtenWithIt' | 'notShown'>> {
  const wrote = steps.filter(({ changed }) => changed > 0)
  // The server counts what was tried and rolled back, too: where rows failed, its counts say nothing.
  const counted = failed.length === 0 && wrote.length > 0 ? ((await count?.()) ?? null) : null
  const words = new Set(wrote.flatMap(({ kind }) => writtenBeside(mapping, kind, set)))
  return toldBeside(
    [...words],
    [],
    counted,
    wrote.map(({ kind, changed }) => ({ mapping, kinds: [kind], changed })),
  )
}
