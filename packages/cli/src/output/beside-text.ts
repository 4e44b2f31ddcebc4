import colors from 'picocolors'
import type { Receipt } from '@ledgerman/contract'
import { writtenWithItText } from '@ledgerman/client'

/** How a reversal begins what it says of what stays as it is. */
const NOT_PUT_BACK = 'Not put back: '

/** What a receipt or a report says of what was written beside its rows, and of what it cannot show: a part each. */
export function formatBeside(said: Pick<Receipt, 'writtenWithIt' | 'notShown'>): string[] {
  const withIt = writtenWithItText(said)
  const unsaid = (said.notShown ?? []).map((words) =>
    words.startsWith(NOT_PUT_BACK) ? colors.yellow(words) : `${colors.yellow('not shown')}: ${words}`,
  )
  return [
    ...(withIt === '' ? [] : [`${colors.yellow('written with it')}: ${withIt}`]),
    ...(unsaid.length > 0 ? [unsaid.join('\n')] : []),
  ]
}
