import type { ReviewFinding, ReviewLevel, ReviewRule } from '@ledgerman/contract'
import type { Execution, Place } from '../extract/facts.js'
import type { ReadText } from '../sql/placeholders.js'
import type { StatementFacts } from '../sql/statement-facts.js'

/** One statement with all that is known of it. */
export interface Subject {
  path: string
  execution: Execution
  read: ReadText
  /** Undefined where its text is not one that PostgreSQL takes, or is not known. */
  facts: StatementFacts | undefined
  /** The other statements of the same text. */
  others: readonly StatementFacts[]
  /** The same without what is there on some ways only, where that is a statement too, and where what is left out stands. */
  shorter?: { facts: StatementFacts; place: Place } | undefined
  /** The unique key that its condition covers; undefined where no catalogue was asked. */
  key?: readonly string[] | null
  index: number
}

/** Why each rule matters, in one sentence; the docs say it with examples. */
export const WHY: Readonly<Record<ReviewRule, string>> = {
  'does-not-parse': 'It fails each time it is run, or means something else than its author thought.',
  'unknown-name': 'It fails each time it is run.',
  'every-row': 'Every row of the table is changed or removed, and nothing says so.',
  'not-one-row': 'It changes rows that nobody meant, and says nothing.',
  'value-in-text': 'Whoever gives the value can change what the statement does, and a quote in it makes it fail.',
  'parameter-count': 'It fails when it is run, or values land in the wrong places.',
  'null-comparison': 'A comparison with null matches no row, so nothing is found.',
  'key-assigned': 'Other rows and programs know the record by its key; a generated value cannot be set at all.',
  'type-mismatch': 'The column is converted for every row, so no index serves, or the statement fails.',
  'no-index': 'The whole table is read each time, and rows that are locked on the way hold others up.',
  'unguarded-save': 'Two people who loaded the same record overwrite each other without noticing.',
  'count-ignored': 'A record that was not there is reported as changed.',
  'never-committed': 'The change is gone when the session ends, though the program went on as if it was kept.',
  apart: 'Where the second statement fails, the first one stays: half of the change is kept.',
  'not-awaited': 'The program goes on before it is done, and an error of it goes unnoticed.',
  'unbounded-wait': 'It waits for as long as somebody holds the row, and others wait behind it.',
  'one-by-one': 'Each round trip costs more than the row: one statement does it many times faster.',
  'session-kept': 'The pool runs dry, and everybody waits.',
  'transaction-inside':
    'The driver does not know of the transaction: where something fails it stays open or is half done.',
}

/** Of what was not read there is nothing to be said. */
const WHY_UNREAD = 'What may be wrong with it is not seen here.'

/** A name with its article, as it is said aloud: an observer, a programme, a user. */
export function withArticle(name: string): string {
  return /^(?:[aeio]|u(?!ni|se|sa|ti))(?!u)/i.test(name) && !/^(?:eu|one)/i.test(name) ? `an ${name}` : `a ${name}`
}

/** Puts a finding together. */
export function finding(
  subject: Pick<Subject, 'path'> & { index: number | null },
  rule: ReviewRule,
  level: ReviewLevel,
  place: Place,
  message: string,
  instead: string | null = null,
): ReviewFinding {
  const { line, column, endLine, endColumn } = place
  return {
    rule,
    level,
    path: subject.path,
    line,
    column,
    endLine,
    endColumn,
    message,
    why: rule === 'does-not-parse' && level === 'note' ? WHY_UNREAD : WHY[rule],
    instead,
    statement: subject.index,
  }
}
