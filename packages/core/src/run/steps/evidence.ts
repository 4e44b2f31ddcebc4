import { createHash } from 'node:crypto'
import { LedgermanProblem } from '@ledgerman/contract'

/** Up to so many rows of a step are kept one by one; of more only their number and a digest of all. */
export const EVIDENCE_ROWS = 1_000

/** What one step read or matched: each row's key and a digest of its image, or of all together. */
export interface StepEvidence {
  step: number
  matched: number
  /** Null beyond `EVIDENCE_ROWS`. */
  rows: [key: string, image: string][] | null
  digest: string | null
}

/** What a rehearsal saw, for "commit exactly this". */
export type Evidence = StepEvidence[]

/** A digest of a row's values before. */
export function imageDigest(texts: readonly (string | null)[]): string {
  return createHash('sha256').update(JSON.stringify(texts)).digest('base64url').slice(0, 22)
}

/** @throws LedgermanProblem rehearsal-stale with the rows that differ. */
export function assertSame(rehearsed: Evidence, now: Evidence): void {
  const differing = rehearsed.flatMap((before) => {
    const after = now.find(({ step }) => step === before.step)
    return after ? differences(before, after) : [{ step: before.step, what: 'the step was not run' }]
  })
  if (differing.length === 0 && now.length === rehearsed.length) return
  throw new LedgermanProblem(
    'rehearsal-stale',
    `What was rehearsed is no longer what would be committed: ${
      differing
        .slice(0, 5)
        .map(
          ({ step, what, key }: { step: number; what: string; key?: string }) =>
            `step ${step}, ${key ? `${key} ` : ''}${what}`,
        )
        .join('; ') || 'other steps would be run'
    }. Rehearse again.`,
    { differs: differing.slice(0, 100) },
  )
}

function differences(before: StepEvidence, after: StepEvidence) {
  const { step } = before
  if (before.rows === null || after.rows === null) {
    return before.matched === after.matched && before.digest === after.digest
      ? []
      : [{ step, what: `rows differ: ${before.matched} matched then, ${after.matched} now` }]
  }
  const images = new Map(after.rows)
  const gone = before.rows.flatMap(([key, image]) => {
    const current = images.get(key)
    if (current === image) return []
    return [{ step, key, what: current === undefined ? 'is no longer matched' : 'was changed since' }]
  })
  const known = new Set(before.rows.map(([key]) => key))
  const added = after.rows.flatMap(([key]) =>
    known.has(key) ? [] : [{ step, key, what: 'is matched now and was not' }],
  )
  return [...gone, ...added]
}
