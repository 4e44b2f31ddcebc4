import { isWrite, type Plan, type PlannedStep } from '../plan/plan.js'

type Load = Extract<PlannedStep, { kind: 'load' }>

/** How many rows of a step a program keeps, to look among them. */
const MOST_KEPT = 100

/**
 * The earlier load among whose rows a load by key may find its own, by parameters: they are locked, and nothing was written since, so that asking again would
 * give the same. The row is not always there; then it has to be asked for.
 */
export function lockedBefore({ steps, skipLocked }: Plan, step: Load): Load | undefined {
  const { finder, mapping, lock, no } = step
  if (skipLocked || lock === 'change' || !('key' in finder)) return undefined
  if (!finder.key.every(({ expression }) => expression.expression.kind === 'parameter')) return undefined
  const before = steps.slice(0, no - 1)
  const written = before.findLastIndex((each) => isWrite(each) || each.kind === 'sql')
  return before.findLast(
    (each, at): each is Load =>
      at > written && each.kind === 'load' && each.mapping === mapping && each.lock !== 'none' && isKept(each),
  )
}

/** Whether a load gives each of its rows. */
function isKept({ when, expect }: Load): boolean {
  return when === null && (expect === 'one' || (typeof expect === 'number' && expect <= MOST_KEPT))
}
