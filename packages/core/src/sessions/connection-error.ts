import { AnswerTooLarge } from './answer-limit.js'

const CONNECTION_CODES = new Set([
  'ECONNREFUSED',
  'ECONNRESET',
  'EPIPE',
  'ETIMEDOUT',
  'ENOTFOUND',
  'EAI_AGAIN',
  'EHOSTUNREACH',
  'ENETUNREACH',
])

/** SQLSTATEs after which the session is gone: class 08, and the server shutting down, crashed or starting (57P01 to 57P05). */
const SESSION_ENDED = /^(?:08...|57P0[1-5])$/

/** Whether the connection broke or never was, so that nothing is known of what the server did last. */
export function isConnectionError(error: unknown): boolean {
  if (!(error instanceof Error)) return false
  if (error instanceof AnswerTooLarge) return true
  const { code } = error as { code?: unknown }
  if (typeof code === 'string') return CONNECTION_CODES.has(code) || SESSION_ENDED.test(code)
  // The driver gives these no code.
  return /^(Connection terminated|timeout expired|Query read timeout|timeout exceeded when trying to connect|Client has encountered a connection error)/.test(
    error.message,
  )
}
