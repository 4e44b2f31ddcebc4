import type { Receipt, StepReceipt } from '@ledgerman/contract'
import { isWrite, type Plan } from './plan.js'
import { reversibilityOf } from '../mapping/reversibility.js'

/** Whether all that a run wrote can be put back: raw statements and tables without a key leave gaps. */
export function runReversibility({ steps }: Plan, receipts: readonly StepReceipt[]): Receipt['reversible'] {
  const wrote = steps.filter((step) => (receipts.find(({ no }) => no === step.no)?.changed ?? 0) > 0)
  const each = wrote.flatMap((step) => {
    if (step.kind === 'sql') return step.writes ? ['no' as const] : []
    if (!isWrite(step)) return []
    return [step.mapping.key.length === 0 ? ('no' as const) : reversibilityOf(step.mapping, step.kind, step.set)]
  })
  if (each.every((one) => one === 'yes')) return 'yes'
  return each.every((one) => one === 'no') ? 'no' : 'partly'
}
