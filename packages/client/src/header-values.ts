import { LedgermanProblem } from '@ledgerman/contract'

/** What the value of a header may not hold (RFC 9110, section 5.5): control characters, and what is not one byte. */
const NO_HEADER_CARRIES = /[^\t\x20-\x7e\x80-\xff]/u

/** Where values come from that are not the client's own. */
const GIVEN_AS: Record<string, string> = {
  authorization: 'token',
  'idempotency-key': 'idempotencyKey',
  'if-match': 'guard',
}

/**
 * Sees to it that headers can be sent, before anything is: who tries and fails cannot tell it from a connection that broke.
 *
 * @throws LedgermanProblem request-invalid
 */
export function assertHeaders(headers: Readonly<Record<string, string>>): void {
  for (const [header, value] of Object.entries(headers)) {
    const [character] = NO_HEADER_CARRIES.exec(value) ?? []
    if (character === undefined) continue
    const where = GIVEN_AS[header] ?? header
    const place = value.endsWith(character) ? 'at its end' : 'in it'
    throw new LedgermanProblem(
      'request-invalid',
      `${where}: no HTTP header can carry the character ${nameOf(character)} ${place}. Nothing was sent.`,
      { where },
    )
  }
}

function nameOf(character: string): string {
  const code = character.codePointAt(0) as number
  const number = `U+${code.toString(16).toUpperCase().padStart(4, '0')}`
  const name = { 10: ', a line feed', 13: ', a carriage return' }[code]
  return name === undefined && code > 0x20 ? `${number}, ${character}` : `${number}${name ?? ''}`
}
