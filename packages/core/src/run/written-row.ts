import type { PlannedWrite } from '../plan/plan.js'
import { WRITE_FLAGS } from '../statement/build-write-step.js'

/** All values after a write, whether touched or not. */
export function afterTexts(
  { mapping, touched, kind }: PlannedWrite,
  row: readonly (string | null)[],
  width: number,
): (string | null)[] {
  const after = row.slice(width + WRITE_FLAGS.length)
  const isWritten = row[width + WRITE_FLAGS.indexOf('written')] === 't'
  return mapping.properties.map((property, at) => {
    const place = touched.indexOf(property)
    return place >= 0 && (isWritten || kind === 'add') ? (after[place] ?? null) : (row[at] ?? null)
  })
}
