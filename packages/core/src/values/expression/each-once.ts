/** What is longer stands once. An operand that stands twice, inside of another that does, would be twice as long at each level. */
const SHORT = 200

/**
 * SQL in which values may be named several times: a long one is worked out, and written, once.
 *
 * @param values the SQL of each
 * @param use gives the whole, from what stands for each
 */
export function eachOnce(values: readonly string[], use: (names: readonly string[]) => string): string {
  const isLong = values.map((value) => value.length > SHORT)
  if (!isLong.includes(true)) return use(values)
  const named = values.map((value, at) => (isLong[at] ? `once.v${at + 1}` : value))
  const columns = values.flatMap((value, at) => (isLong[at] ? [`${value} as v${at + 1}`] : []))
  // Without OFFSET the planner would put the values back where their names stand (PostgreSQL, `is_simple_subquery`).
  return `(select ${use(named)} from (select ${columns.join(', ')} offset 0) as once)`
}
