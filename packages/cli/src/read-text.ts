import { isUtf8 } from 'node:buffer'
import { readFileSync } from 'node:fs'
import { LedgermanProblem } from '@ledgerman/contract'

/** @throws LedgermanProblem request-invalid where a file holds something else than text in UTF-8 */
export function readText(file: string): string {
  const bytes = readFileSync(file)
  if (!isUtf8(bytes) || bytes.includes(0))
    throw new LedgermanProblem('request-invalid', `${file}: it is no text in UTF-8.`, { where: file })
  return bytes.toString()
}
