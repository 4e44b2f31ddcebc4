import type { Receipt, StepReceipt } from '@ledgerman/contract'
import { mayChange } from '../statement/step-shape.js'
import { isWrite, type Plan, type PlannedWrite } from './plan.js'
import { reversibilityOf } from '../mapping/reversibility.js'

/** What a step may do to a row: one that adds may change the record that is there. */
export function kindsOf({ kind, shape }: PlannedWrite): PlannedWrite['kind'][] {
  return kind === 'add' && mayChange(shape) ? [kind, 'change'] : [kind]
}

/** Whether what a step wrote can be put back: of one that adds or changes, for either. */
export function stepReversibility(step: PlannedWrite): Reversible {
  const { mapping, set } = step
  if (mapping.key.length === 0) return 'no'
  return inAll(kindsOf(step).map((kind) => reversibilityOf(mapping, kind, set)))
}

/** Whether all that a run wrote can be put back: raw statements and tables without a key leave gaps. */
export function runReversibility({ steps }: Plan, receipts: readonly StepReceipt[]): Receipt['reversible'] {
  const wrote = steps.filter((step) => (receipts.find(({ no }) => no === step.no)?.changed ?? 0) > 0)
  const each = wrote.flatMap((step) => {
    if (step.kind === 'sql') return step.writes ? ['no' as const] : []
    if (!isWrite(step)) return []
    return [stepReversibility(step)]
  })
  return inAll(each)
}

type Reversible = Receipt['reversible']

function inAll(each: readonly Reversible[]): 'yes' | 'partly' | 'no' {
  if (each.every((one) => one === 'yes')) return 'yes'
  return each.every((one) => one === 'no') ? 'no' : 'partly'
}
