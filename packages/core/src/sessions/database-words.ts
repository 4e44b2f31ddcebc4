import { isCancelled, type DatabaseError } from './database-error.js'

// PostgreSQL speaks the language that `lc_messages` says, and only some roles may choose it. What nothing but its words tell is read here, in a
// way that holds for all of its languages (those of PostgreSQL 15 were looked through).

/** What it says of a statement that ran longer than `statement_timeout`; a cancel by somebody has the same SQLSTATE. */
const timeLimitWords = new Set(['canceling statement due to statement timeout'])

/** Remembers what a server says of a statement that ran too long. */
export function learnTimeLimitWords(message: string): void {
  timeLimitWords.add(message)
}

/** Whether a statement was cancelled because it ran longer than its limit. */
export function isTimeLimit(error: unknown): boolean {
  return isCancelled(error) && timeLimitWords.has((error as DatabaseError).message)
}

/** Which bind it could not read, from 1: `unnamed portal parameter $2 = '…'`. Spanish leaves out the sign. */
export function failedParameter({ where = '' }: Pick<DatabaseError, 'where'>): number | undefined {
  const found = /^[^\n"'«»„“”‹「『]*?\$(\d+)/.exec(where) ?? /^portal sin nombre, parámetro (\d+)/.exec(where)
  return found ? Number(found[1]) : undefined
}

/** Where COPY could not read a value: `COPY ledgerman_given, line 3, column c2: …`. */
export function copyPlace({ where = '' }: Pick<DatabaseError, 'where'>, table: string) {
  const from = where.indexOf(table)
  const found = from < 0 ? null : /^\D*(\d+)[^\d"«»„“”]*?\bc(\d+)\b/.exec(where.slice(from + table.length))
  return found ? { line: Number(found[1]), column: Number(found[2]) } : undefined
}

/** The values of a row that breaks a constraint, as one text: `Failing row contains (7, P-107, …).` */
export function failingRow({ detail = '' }: Pick<DatabaseError, 'detail'>): string | undefined {
  return /^[^(]*\((.*)\)[^)]*$/s.exec(detail)?.[1]
}

/** The columns, or expressions, of a key that stands there already: `Key (telescope, night)=(…) already exists.` */
export function keyColumns({ detail = '' }: Pick<DatabaseError, 'detail'>): string[] {
  const list = /^[^(]*\((.*?)\)=\(/.exec(detail)?.[1]
  return list === undefined ? [] : list.split(', ')
}

/** A key that others still refer to, its values as one text: `Key (telescope, night)=(N1, 2026-01-10) is still referenced from …`. */
export function referredKey(error: Pick<DatabaseError, 'detail'>): { columns: string[]; values: string } | undefined {
  const values = /^[^(]*\(.*?\)=\((.*)\)[^)]*$/s.exec(error.detail ?? '')?.[1]
  return values === undefined ? undefined : { columns: keyColumns(error), values }
}

/**
 * Whether a foreign key was broken from the side that is referred to: `update or delete on table "a" violates … "k" on table "b"` names one table
 * more than `insert or update on table "b" violates … "k"`. The error's own table is the one that refers, in both.
 */
export function isStillReferenced({ message, table = '', constraint = '' }: DatabaseError): boolean {
  const rest = [constraint, table].reduce(
    (words, name) => words.replace(new RegExp(`["«»„“”]\\s?${literally(name)}\\s?["«»“”]`, 'u'), ''),
    message,
  )
  return /["«»„“”]/u.test(rest)
}

/** Whether a privilege is lacking for something of this name: `permission denied for table site`. In some languages it stands in quotation marks. */
export function isDeniedFor({ message }: DatabaseError, name: string): boolean {
  const mark = '["«»„“”‹›「」『』]'
  return new RegExp(`(?:^|\\s|${mark}\\s?)${literally(name)}(?:$|\\s|\\s?${mark})`, 'u').test(message)
}

/** A pattern that stands for just these characters. */
function literally(text: string): string {
  return text.replace(/[$()*+.?[\\\]^{|}]/g, '\\$&')
}

/** Whether a whole number went out of its range in a calculation or a cast, and not where a value was read. */
export function isOverflow({ code, where, routine = '' }: DatabaseError): boolean {
  return code === '22003' && where === undefined && /^(?:int\d\w*|i4toi2|[df]toi\d|numeric_int\d\w*)$/.test(routine)
}

/** Who waits for whom in a deadlock: `Process 12 waits for ShareLock on transaction 751; blocked by process 34.`, a line each. */
export function waitsInDeadlock(detail: string): { pid: number; lock: string; blockedBy: number }[] {
  return detail.split('\n').flatMap((line) => {
    const last = /(?<!\d)(\d+)\D*$/.exec(line)
    const middle = Math.max(...[';', '；', '、'].map((mark) => line.slice(0, last?.index).lastIndexOf(mark)))
    const [, pid] = /(\d+)/.exec(line.slice(0, Math.max(0, middle))) ?? []
    const by = last?.[1]
    if (pid === undefined || by === undefined) return []
    const words = line.slice(line.indexOf(pid) + pid.length, middle)
    return [{ pid: Number(pid), lock: /\b\w+Lock\b.*$/.exec(words)?.[0].trim() ?? words.trim(), blockedBy: Number(by) }]
  })
}

/** What an error says that a drill raises: words of our own, in which no value can stand. */
export const STAGED = 'staged by the drill'

/** Quotation marks of the languages that PostgreSQL speaks: `lc_messages` is the database's, and no session may choose it. */
const QUOTED = [
  [/"/, '"'],
  [/(?<![\p{L}\p{N}])'/u, "'"],
  [/[«»]/, '«»'],
  [/[„“”]/, '“”'],
  [/‹/, '›'],
  [/「/, '」'],
  [/『/, '』'],
] as const

/**
 * A message with an ellipsis for whatever stands between the first and the last mark of a kind, since a value may hold marks of its
 * own, for all that follows a colon, and for what stands in parentheses behind an equals sign.
 */
export function withoutValues(message: string): string {
  const words = QUOTED.reduce((words, [first, last]) => withoutPart(words, first, last, '"…"'), message)
  return withoutTail(withoutPart(words, /=\s*\(/, ')', '=(…)'))
}

/** A text with `instead` for all from the first place of `first` to the last of one of the characters `last`. */
function withoutPart(text: string, first: RegExp, last: string, instead: string): string {
  const found = first.exec(text)
  const end = Math.max(...[...last].map((mark) => text.lastIndexOf(mark)))
  return !found || end < found.index + found[0].length
    ? text
    : text.slice(0, found.index) + instead + text.slice(end + 1)
}

/** A message with an ellipsis for what follows the first colon behind all that was quoted. */
function withoutTail(message: string): string {
  const from = message.lastIndexOf('"') + 1
  const at = message.slice(from).search(/[:：](?!…)/)
  return at < 0 ? message : `${message.slice(0, from + at)}: …`
}
