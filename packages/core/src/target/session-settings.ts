/** How long things may take in a target's sessions, in milliseconds. */
export interface SessionLimits {
  /** Waiting for a lock. */
  lockWaitMs: number
  /** One statement. */
  timeLimitMs: number
  /** A transaction in which nothing is asked. */
  idleMs: number
}

export const DEFAULT_LIMITS: SessionLimits = { lockWaitMs: 2_000, timeLimitMs: 10_000, idleMs: 15_000 }

/**
 * The start-up options of every session: limits, and the settings that shape PostgreSQL's text forms, which the codecs
 * rely on. Given with the connection they cost no round trip.
 */
export function startupOptions(limits: SessionLimits, others: Record<string, string>): string {
  const settings: Record<string, string> = {
    lock_timeout: String(limits.lockWaitMs),
    statement_timeout: String(limits.timeLimitMs),
    idle_in_transaction_session_timeout: String(limits.idleMs),
    DateStyle: 'ISO,MDY',
    TimeZone: 'UTC',
    IntervalStyle: 'iso_8601',
    bytea_output: 'hex',
    extra_float_digits: '1',
    xmlbinary: 'base64',
    client_min_messages: 'warning',
    standard_conforming_strings: 'on',
    ...others,
  }
  return Object.entries(settings)
    .map(([name, value]) => `-c ${name}=${value.replace(/[\\ ]/g, '\\$&')}`)
    .join(' ')
}
