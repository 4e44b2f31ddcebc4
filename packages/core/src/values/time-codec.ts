import type { Json } from '@ledgerman/contract'
import type { Codec, ScalarType } from './codec.js'
import { ValueError } from './value-error.js'

// Sessions print in ISO style and UTC (see target/session-settings.ts), so the text forms here are the only ones.

const DATE = String.raw`\d{4,7}-\d{2}-\d{2}`
const TIME = String.raw`\d{2}:\d{2}(?::\d{2}(?:\.(\d+))?)?`
const ZONE = String.raw`(?:Z|[+-]\d{2}(?::?\d{2}(?::?\d{2})?)?)`

const dateForm = new RegExp(`^(${DATE}(?: BC)?|-?infinity)$`)
const timeForm = new RegExp(`^${TIME}$`)
const timestampForm = new RegExp(`^(?:${DATE}[T ]${TIME}(?: BC)?|-?infinity)$`)
const timestamptzForm = new RegExp(`^(?:${DATE}[T ]${TIME}${ZONE}(?: BC)?|-?infinity)$`)

export const dateCodec: Codec = {
  fromText: (text) => text,
  toText: (value) => matching(value, dateForm, 'a date such as "2026-03-01", "infinity" or "-infinity"'),
}

export const timeCodec: Codec = {
  fromText: (text) => text,
  toText: (value, type) =>
    withinFraction(matching(value, timeForm, 'a time of day such as "21:30:00"'), timeForm, type),
}

export const timestampCodec: Codec = {
  fromText: (text) => (text.endsWith('BC') ? text : text.replace(' ', 'T')),
  toText(value, type) {
    const expected = 'a date and time without zone such as "2026-03-01T21:30:00", "infinity" or "-infinity"'
    return withinFraction(matching(value, timestampForm, expected), timestampForm, type)
  },
}

export const timestamptzCodec: Codec = {
  fromText: (text) => (text.endsWith('BC') ? text : text.replace(' ', 'T').replace(/\+00$/, 'Z')),
  toText(value, type) {
    const expected = 'a date and time with its zone such as "2026-03-01T21:30:00Z", "infinity" or "-infinity"'
    return withinFraction(matching(value, timestamptzForm, expected), timestamptzForm, type)
  },
}

/** An ISO 8601 duration; PostgreSQL reads it itself. */
export function intervalToText(value: Json, type: ScalarType): string {
  const form = /^P(?=.)(?:-?[\d.]+[YMWD])*(?:T(?:-?\d+(?:\.(\d+))?[HMS])+)?$/
  const text = withinFraction(matching(value, form, 'an ISO 8601 duration such as "PT1H30M"'), form, type)
  if (type.intervalFields !== null) assertKept(text, type.intervalFields)
  return text
}

/** PostgreSQL drops without a word what lies below an interval's last field; what lies above its first is carried into it. */
function assertKept(text: string, fields: string): void {
  const last = fields.split(' to ').at(-1) ?? ''
  const order = ['year', 'month', 'day', 'hour', 'minute', 'second']
  const [date = '', time = ''] = text.slice(1).split('T')
  const parts = [
    ...[...date.matchAll(/(?<![\d.])(-?[\d.]+)([YMWD])/g)].map(([, amount, unit]) => ({
      amount,
      field: { Y: 'year', M: 'month', W: 'day', D: 'day' }[unit ?? ''] ?? '',
    })),
    ...[...time.matchAll(/(?<![\d.])(-?[\d.]+)([HMS])/g)].map(([, amount, unit]) => ({
      amount,
      field: { H: 'hour', M: 'minute', S: 'second' }[unit ?? ''] ?? '',
    })),
  ]
  const isLost = parts.some(
    ({ amount, field }) =>
      Number(amount) !== 0 &&
      (order.indexOf(field) > order.indexOf(last) ||
        (field === last && last !== 'second' && !/^-?\d+$/.test(amount ?? ''))),
  )
  if (isLost) throw new ValueError(`a duration in whole parts down to the ${last}, as interval ${fields} keeps it`)
}

function matching(value: Json, form: RegExp, expected: string): string {
  if (typeof value !== 'string' || !form.test(value)) throw new ValueError(expected)
  return value
}

/** Refuses digits of a second that the column would round away. */
function withinFraction(text: string, form: RegExp, type: ScalarType): string {
  const fraction = (form.exec(text)?.[1] ?? '').replace(/(?<!0)0+$/, '')
  const kept = type.fractionDigits ?? 6
  if (fraction.length > kept)
    throw new ValueError(`at most ${kept} ${kept === 1 ? 'digit' : 'digits'} behind the point of a second`)
  return text
}
