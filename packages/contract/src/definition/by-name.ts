import { z } from 'zod'

/** As many as PostgreSQL gives a table columns (its documentation, "PostgreSQL Limits"). */
const MOST = 1_600

/** Values by their names, so many at most: of more than that none is looked at. */
export function byName<Name extends z.ZodType<string, string>, Value extends z.ZodType>(name: Name, value: Value) {
  const record = z.record(name, value)
  const counted = z.preprocess((given, context) => {
    if (given === null || typeof given !== 'object' || Object.keys(given).length <= MOST) return given
    context.addIssue(`expected at most ${MOST} members`)
    return z.NEVER
  }, record)
  // What goes in is what goes into the record.
  return counted as unknown as typeof record
}
