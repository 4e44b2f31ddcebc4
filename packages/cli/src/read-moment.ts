import { InvalidArgumentError } from 'commander'

const MOMENT = /^(\d{4}-\d{2}-\d{2})(?:[T ](\d{2}:\d{2}(?::\d{2}(?:\.\d+)?)?) ?(Z|[+-]\d{2}:\d{2})?)?$/i

/** A moment as the interface takes it (RFC 3339); one without a zone, or without a time, is UTC, as all moments that are printed. */
export function readMoment(text: string): string {
  const [, day, time = '00:00', zone = 'Z'] = MOMENT.exec(text.trim()) ?? []
  const moment = `${day}T${time.length === 5 ? `${time}:00` : time}${zone.toUpperCase()}`
  if (day === undefined || Number.isNaN(Date.parse(moment)))
    throw new InvalidArgumentError(
      'Expected a moment such as 2026-02-03 or 2026-02-03T21:00:00Z; without a zone it is UTC.',
    )
  return moment
}

/** An entry of the book, or a moment. */
export function readPlace(text: string): string {
  return /^[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}$/i.test(text) ? text : readMoment(text)
}
