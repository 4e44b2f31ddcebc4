import { LedgermanProblem } from '@ledgerman/contract'

/** An option's value as a whole number. @throws LedgermanProblem request-invalid, with the range it has to be in */
export function wholeNumber(text: string, option: string, least = 0, most = 999_999_999): number {
  const number = /^\d{1,9}$/.test(text) ? Number(text) : NaN
  if (number >= least && number <= most) return number
  throw new LedgermanProblem(
    'request-invalid',
    `--${option}: expected a whole number from ${least} to ${most}, got "${text}".`,
    { where: option },
  )
}
