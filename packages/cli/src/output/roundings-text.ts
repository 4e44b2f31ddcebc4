import colors from 'picocolors'
import type { Receipt } from '@ledgerman/contract'

/** The computed values that were rounded, a line each. */
export function formatRoundings(rounded: Receipt['rounded'] = []): string[] {
  return rounded.map(
    ({ step, property, to }) => `${colors.yellow('rounded')}: ${property} of step ${step}, to what ${to} keeps`,
  )
}
