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
  const each: Reversible[] = []
  for (const step of steps) {
    if ((receipts.find(({ no }) => no === step.no)?.changed ?? 0) === 0) continue
    if (isWrite(step)) each.push(stepReversibility(step))
    else if (step.kind === 'sql' && step.writes) each.push('no')
  }
  return inAll(each)
}

type Reversible = Receipt['reversible']

function inAll(each: readonly Reversible[]): 'yes' | 'partly' | 'no' {
  if (each.every((one) => one === 'yes')) return 'yes'
  return each.every((one) => one === 'no') ? 'no' : 'partly'
}
