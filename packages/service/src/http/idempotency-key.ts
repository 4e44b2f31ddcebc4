import { LedgermanProblem } from '@ledgerman/contract'

/** The content of an Idempotency-Key header, in quotes or without. @throws LedgermanProblem request-invalid */
export function readIdempotencyKey(header: string | string[]): string {
  const text = String(header)
    .trim()
    .replace(/^"(.*)"$/, '$1')
  if (text.length >= 1 && text.length <= 255) return text
  throw new LedgermanProblem('request-invalid', 'Idempotency-Key: expected 1 to 255 characters.', {
    where: 'idempotency-key',
  })
}
