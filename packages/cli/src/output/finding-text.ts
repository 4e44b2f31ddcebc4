import type { Finding } from '@ledgerman/contract'
import colors from 'picocolors'

/** One finding as compilers write them: file, line, column, reason; then what to do. */
export function formatFinding({ file, line, column, where, message, definition, advice }: Finding): string {
  const place = [file ?? definition, line, column].filter((part) => part !== null && part !== undefined).join(':')
  // What stands before it is not said again.
  const at = where === '' || (line !== null && /^line \d/.test(where)) ? '' : `${where}: `
  return `${place === '' ? '' : `${colors.bold(place)} `}${at}${message}${advice === undefined ? '' : `\n  ${colors.dim(advice)}`}`
}
