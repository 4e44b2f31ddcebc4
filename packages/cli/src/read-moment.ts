import { InvalidArgumentError } from 'commander'

/** A moment as the interface takes it; one without a zone, or without a time, is read in this machine's zone. */
export function readMoment(text: string): string {
  const moment = new Date(/^\d{4}-\d{2}-\d{2}$/.test(text) ? `${text}T00:00` : text)
  if (Number.isNaN(moment.getTime()))
    throw new InvalidArgumentError('Expected a moment such as 2026-02-03 or 2026-02-03T21:00:00Z.')
  return moment.toISOString()
}
