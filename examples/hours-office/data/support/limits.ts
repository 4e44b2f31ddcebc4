// Written by Ledgerman: limits of a transaction, and the settings that values depend on.
export interface Limits {
  isolation: 'read committed' | 'repeatable read' | 'serializable'
  lockWaitMs: number
  timeLimitMs: number
  /** How often it is tried again after a serialization failure or a deadlock. */
  retries: number
  /** The settings that the texts of its values depend on; all that there are, where it does not say. */
  forms?: readonly TextForm[]
}

export const LIMITS: Limits = { isolation: 'read committed', lockWaitMs: 2_000, timeLimitMs: 10_000, retries: 0 }

/** Settings that the texts of values depend on. */
const TEXT_FORMS = {
  DateStyle: 'ISO, MDY',
  TimeZone: 'UTC',
  IntervalStyle: 'iso_8601',
  bytea_output: 'hex',
  extra_float_digits: '1',
} as const

type TextForm = keyof typeof TEXT_FORMS

export function formsOf({ forms = Object.keys(TEXT_FORMS) as TextForm[] }: Limits): (readonly [TextForm, string])[] {
  return forms.map((form) => [form, TEXT_FORMS[form]])
}

/**
 * What each connection of a pool may begin with: `new Pool({ ...POOL_SETTINGS, connectionString })`. Then nothing has to be set by
 * transactions, and many a change of one record is one round trip in place of three.
 */
export const POOL_SETTINGS = {
  lock_timeout: LIMITS.lockWaitMs,
  statement_timeout: LIMITS.timeLimitMs,
  options: Object.entries(TEXT_FORMS)
    .map(([name, value]) => `-c ${name}=${value.replaceAll(' ', '')}`)
    .join(' '),
} as const
