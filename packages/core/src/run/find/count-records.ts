import type { Mapping } from '../../mapping/mapping.js'
import { buildCount, buildEstimate } from '../../statement/build-find.js'
import { withPrefix } from '../../statement/statement.js'
import type { Target } from '../../target/target.js'
import { runFind, valuesOf } from './run-find.js'
import type { ReadFind } from './find-request.js'

export type CountKind = 'all' | 'about'

/** How many records fit: counted, or as the planner estimates from its statistics, which costs nothing. */
export async function countRecords(
  target: Target,
  mapping: Mapping,
  read: ReadFind,
  kind: CountKind,
  signal: AbortSignal | undefined,
): Promise<{ count: number; isEstimate: boolean }> {
  const { shape, links } = read
  const statement = kind === 'all' ? buildCount(mapping, shape, links) : buildEstimate(mapping, shape, links)
  const run = kind === 'all' ? statement : withPrefix('explain (format json) ', statement)
  const [row] = await runFind(target, mapping, run, valuesOf(statement, read, null, 0), signal)
  return { count: kind === 'all' ? Number(row?.[0]) : estimateIn(row?.[0] ?? '[]'), isEstimate: kind === 'about' }
}

function estimateIn(plan: string): number {
  const [{ Plan } = { Plan: { 'Plan Rows': 0 } }] = JSON.parse(plan) as { Plan: { 'Plan Rows': number } }[]
  return Plan['Plan Rows']
}
