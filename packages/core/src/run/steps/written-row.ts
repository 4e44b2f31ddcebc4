import type { RowReceipt } from '@ledgerman/contract'
import { toGuard } from '../../mapping/guard-value.js'
import type { Property } from '../../mapping/mapping.js'
import type { PlannedWrite } from '../../plan/plan.js'
import { toRowReceipt } from '../../mapping/row-receipt.js'
import { showable } from '../../mapping/showable.js'
import { WRITE_FLAGS, widthBefore } from '../../statement/build-write-step.js'
import type { Target } from '../../target/target.js'

/** All values after a write, whether touched or not. */
export function afterTexts(
  { mapping, touched }: PlannedWrite,
  row: readonly (string | null)[],
  width: number,
): (string | null)[] {
  const after = row.slice(width + WRITE_FLAGS.length)
  const isWritten = row[width + WRITE_FLAGS.indexOf('written')] === 't'
  return mapping.properties.map((property, at) => {
    const place = touched.indexOf(property)
    return place >= 0 && (isWritten || width === 0) ? (after[place] ?? null) : (row[at] ?? null)
  })
}

type Texts = (string | null)[]

/** The two sides of a row that a write gives: all values before, null where there was no record; the touched ones after; and the side that has the whole record. */
export function sidesOf(step: PlannedWrite, row: Texts): { before: Texts | null; after: Texts; whole: Texts } {
  const width = widthBefore(step)
  const after = row.slice(width + WRITE_FLAGS.length)
  // What can add as well says by this flag that it found nothing.
  const isNew = step.kind === 'add' && (width === 0 || row[width + WRITE_FLAGS.indexOf('differs')] === null)
  const before = isNew ? null : row.slice(0, width)
  return { before, after, whole: before ?? after }
}

/** A row that was written, as its receipt tells it; with its guard where that is to be kept. */
export function shownWrite(target: Target, step: PlannedWrite, row: Texts, isBooked: boolean): RowReceipt {
  const { mapping, touched, set } = step
  const { before, after, whole } = sidesOf(step, row)
  const isRemoved = step.kind === 'remove'
  const valueOf = (property: Property, of: Texts) =>
    showable(target, property, of[mapping.properties.indexOf(property)] ?? null)
  const image = {
    key: mapping.key.map((property) => valueOf(property, whole)),
    touched,
    before: before && touched.map((property) => valueOf(property, before)),
    after: isRemoved ? null : touched.map((property, at) => showable(target, property, after[at] ?? null)),
  }
  const told = toRowReceipt(mapping, image, (property) => set.includes(property))
  const guard =
    isRemoved || !isBooked ? null : toGuard(mapping, row[widthBefore(step) + WRITE_FLAGS.indexOf('guardAfter')] ?? null)
  if (guard !== null) told.guard = guard
  return told
}
