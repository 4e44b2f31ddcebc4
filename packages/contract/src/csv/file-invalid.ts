import { LedgermanProblem } from '../problem/ledgerman-problem.js'

/** The problem for a place of a file, lines and columns from 1. */
export function fileInvalid(
  line: number,
  column: number | null,
  found: string,
  expected: string,
  hint = '',
): LedgermanProblem {
  const place = column === null ? `line ${line}` : `line ${line}, column ${column}`
  return new LedgermanProblem(
    'file-invalid',
    `${place}: ${found}; expected ${expected}${/[…?]$/.test(expected) ? '' : '.'}${hint} Nothing was changed.`,
    {
      line,
      column,
      found,
      expected,
    },
  )
}
