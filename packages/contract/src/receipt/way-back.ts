import type { Receipt } from './receipt.js'

/** Whether there is anything to put back. */
export function hasChanged({ outcome, steps }: Receipt): boolean {
  return outcome === 'committed' && steps.some(({ changed }) => (changed ?? 0) > 0)
}

/** How much of what was changed can be put back; null where nothing was, of which `reversible` says yes, or where nobody knows. */
export function wayBackOf(receipt: Receipt): Receipt['reversible'] {
  return hasChanged(receipt) ? receipt.reversible : null
}
