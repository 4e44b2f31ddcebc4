import colors from 'picocolors'
import type { HistoryEvent, RecordAsOf, RecordHistory } from '@ledgerman/contract'
import { formatRecord } from './record-text.js'
import { formatDifference, formatTable } from './table.js'

/** How long a value may be on each side. */
const LONGEST = 30

/** What became of a record: a line a property of each event, who and when beside the first. @param isWhole whether all events were asked for */
export function formatHistory({ history, next, unseen }: RecordHistory, isWhole: boolean): string {
  const remarks = unseen.map((words) => `\n${colors.yellow(words)}`).join('')
  if (history.length === 0)
    return `${isWhole ? 'The book has no entry of it.' : 'The book has nothing of it that fits.'}${remarks && `\n${remarks}`}`
  const rows = history.flatMap((event) =>
    event.changes.map(({ property, before, after }, at) => {
      const [old, now] = formatDifference(before, after, LONGEST)
      return [
        ...(at === 0 ? whoAndWhen(event) : ['', '', '']),
        property,
        old,
        '→',
        now,
        at === 0 ? (event.note ?? '') : '',
      ]
    }),
  )
  const more = next === null ? '' : `\n${colors.dim(`More: --after ${next}`)}`
  return `${formatTable(['at (UTC)', 'actor', 'what', 'property', 'before', '', 'after', ''], rows, ['before'])}${more}${remarks && `\n${remarks}`}`
}

function whoAndWhen({ at, actor, kind, transaction }: HistoryEvent): string[] {
  const when = at === null ? colors.dim('not known') : `${at.slice(0, 10)} ${at.slice(11, 19)}`
  const what =
    kind === 'outside' ? colors.yellow('outside the book') : [kind, transaction ?? ''].filter(Boolean).join(' by ')
  return [when, actor ?? '', what]
}

/** A record as it was, and whether that is sure. */
export function formatAsOf({ record, asOf, sure, because }: RecordAsOf, width: number): string {
  const told = record === null ? `There was no such record at ${asOf}.` : formatRecord({ record, guard: null }, width)
  return sure ? told : `${told}\n\n${colors.yellow('not sure')}: ${because}`
}
