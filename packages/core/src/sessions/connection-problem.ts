import { LedgermanProblem } from '@ledgerman/contract'
import { AnswerTooLarge } from './answer-limit.js'
import { hasNoSessionLeft, isDatabaseError } from './database-error.js'

/** The problem for a session that cannot be had. @param hasSome whether there are others, which may come free */
export function translateConnectionError(target: string, error: unknown, hasSome = true): LedgermanProblem {
  if (error instanceof LedgermanProblem) return error
  const code = isDatabaseError(error) ? error.code : undefined
  if (code === '28P01' || code === '28000') {
    return new LedgermanProblem(
      'target-denied',
      `The database of ${target} refuses Ledgerman's role: ${(error as Error).message}.`,
      { target },
      { cause: error },
    )
  }
  if (hasNoSessionLeft(error))
    return new LedgermanProblem(
      'target-unavailable',
      `The database of ${target} gives no more sessions: ${(error as Error).message}. Nothing was sent. Let it have more, or lower \`connections\` of the target.`,
      { target },
      { cause: error },
    )
  const isWaitOver = error instanceof Error && error.message === 'timeout exceeded when trying to connect'
  if (isWaitOver && hasSome)
    return new LedgermanProblem(
      'too-many-requests',
      `All sessions of ${target} are busy, and none came free in time. Nothing was sent; try again in a moment.`,
      { target },
      { cause: error },
    )
  return new LedgermanProblem(
    'target-unavailable',
    `${target} cannot be reached: ${isWaitOver ? 'it does not answer' : connectionReason(error)}. Nothing was sent; ${whatToDo(error)}.`,
    { target },
    { cause: error },
  )
}

/** What Node's TLS has against a server's certificate (OpenSSL's verification codes, and Node's own). */
const OF_CERTIFICATE = /CERT|^UNABLE_TO_|^HOSTNAME_MISMATCH$/

function whatToDo(error: unknown): string {
  const { code = '', message } = error as { code?: string; message?: string }
  if (code === 'ERR_TLS_CERT_ALTNAME_INVALID') return 'reach it by a name that its certificate is for'
  if (OF_CERTIFICATE.test(code))
    return 'give the certificate that signed it (`sslrootcert` in the address), or do without the check (`sslmode=no-verify`)'
  if (message === 'The server does not support SSL connections')
    return 'ask for none (`sslmode=disable` in the address)'
  if (code === '3D000' || code === 'ENOENT') return "look at the target's address"
  return 'try again when it is back'
}

/** The problem for a session that broke while it was in use. @param known what is known of what was under way in it */
export function connectionBroke(target: string, error: unknown, known = ''): LedgermanProblem {
  if (error instanceof AnswerTooLarge) return answerTooLarge(error, known)
  return new LedgermanProblem(
    'target-unavailable',
    `The connection to ${target} broke: ${connectionReason(error)}.${known} Try again when the database is back.`,
    { target },
    { cause: error },
  )
}

/** @param known what is known of what was under way */
export function answerTooLarge(error: AnswerTooLarge, known = ''): LedgermanProblem {
  return new LedgermanProblem(
    'too-large',
    `${error.message}${known}`,
    { limitBytes: error.limitBytes },
    { cause: error },
  )
}

/** What holds of all that is sent in a transaction whose COMMIT was not. */
export const NOT_COMMITTED = ' What was under way was not committed.'

/** Why a database cannot be reached, in the words of who says so: of each of its addresses, where it has several. */
export function connectionReason(error: unknown): string {
  if (error instanceof AggregateError) return error.errors.map((each: Error) => each.message).join('; ')
  if (!(error instanceof Error)) return String(error)
  // The driver's words for a statement that it did not send.
  if (error.message.startsWith('Client has encountered')) return 'it ended before the statement was sent'
  return error.message
}
