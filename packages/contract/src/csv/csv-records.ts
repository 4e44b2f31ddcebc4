import { fileInvalid } from './file-invalid.js'

/** How long one record of a file may be, in characters. */
export const LONGEST_RECORD = 1_000_000

/** One record of a CSV file; `line` is where it begins, from 1. */
export interface CsvRecord {
  line: number
  /** An empty field without quotes is null, one in quotes is the empty text. */
  fields: (string | null)[]
}

/**
 * Splits CSV (RFC 4180, with LF as well as CRLF) into records as its text comes, those of a piece of it together. Our own, since whether a field stood in quotes says here
 * whether it is null; the parser that would tell takes ten times as long for it.
 *
 * @throws LedgermanProblem file-invalid with line and column
 */
export async function* csvRecords(text: AsyncIterable<string>, delimiter: string): AsyncGenerator<CsvRecord[]> {
  let rest = ''
  let line = 1
  for await (const chunk of text) {
    rest = rest === '' ? chunk : rest + chunk
    const records: CsvRecord[] = []
    let at = 0
    // Looked for once for all the records before it: a file may have none.
    let quote = rest.indexOf('"')
    let fault: unknown
    try {
      for (;;) {
        if (quote >= 0 && quote < at) quote = rest.indexOf('"', at)
        const found = readRecord(rest, at, quote, delimiter, line, false)
        if (!found) break
        if (!isBlank(found)) records.push({ line, fields: found.fields })
        line += found.lines
        at = found.next
      }
    } catch (error) {
      fault = error
    }
    // What is wrong with those before is told first: a header that does not fit says why what follows cannot be read.
    if (records.length > 0) yield records
    if (fault !== undefined) throw fault
    rest = rest.slice(at)
    if (rest.length > LONGEST_RECORD)
      throw fileInvalid(
        line,
        null,
        `a record of more than ${LONGEST_RECORD} characters`,
        'shorter ones. Is a quote never closed?',
      )
  }
  if (rest === '') return
  const last = readRecord(rest, 0, rest.indexOf('"'), delimiter, line, true)
  if (last && !isBlank(last)) yield [{ line, fields: last.fields }]
}

interface Found {
  fields: (string | null)[]
  /** Where the next record begins, and how many lines this one has. */
  next: number
  lines: number
}

function isBlank({ fields }: Pick<CsvRecord, 'fields'>): boolean {
  return fields.length === 1 && fields[0] === null
}

/**
 * The record at a place of the text; undefined where it does not end there.
 *
 * @param quote where the next quote stands; below 0 where none does
 */
function readRecord(
  text: string,
  from: number,
  quote: number,
  delimiter: string,
  line: number,
  isEnd: boolean,
): Found | undefined {
  const end = text.indexOf('\n', from)
  if (quote >= 0 && (end < 0 || quote < end)) return readQuoted(text, from, delimiter, line, isEnd)
  if (end < 0 && !isEnd) return undefined
  const stop = end < 0 ? text.length : end
  const content = text.slice(from, text[stop - 1] === '\r' && stop > from ? stop - 1 : stop)
  const fields: (string | null)[] = content.split(delimiter)
  for (let at = 0; at < fields.length; at++) if (fields[at] === '') fields[at] = null
  return { fields, next: end < 0 ? text.length : end + 1, lines: 1 }
}

/** The same for a record with a quote in it. */
function readQuoted(text: string, from: number, delimiter: string, line: number, isEnd: boolean): Found | undefined {
  const fields: (string | null)[] = []
  let [at, lines] = [from, 1]
  for (;;) {
    const column = fields.length + 1
    if (text[at] === '"') {
      const closing = findClosing(text, at + 1)
      if (closing < 0) {
        if (isEnd)
          throw fileInvalid(
            line,
            column,
            'a quote is opened and never closed',
            'a second quote at the end of the field',
          )
        return undefined
      }
      // What follows decides whether the field ends there; it may not have come yet.
      if (closing + 1 >= text.length - 1 && !isEnd) return undefined
      const inner = text.slice(at + 1, closing)
      fields.push(inner.includes('""') ? inner.replaceAll('""', '"') : inner)
      for (let brk = inner.indexOf('\n'); brk >= 0; brk = inner.indexOf('\n', brk + 1)) lines++
      at = closing + 1
    } else {
      const stop = endOfField(text, at, delimiter)
      if (stop < 0 && !isEnd) return undefined
      const field = text.slice(at, stop < 0 ? text.length : stop)
      if (field.includes('"'))
        throw fileInvalid(
          line + lines - 1,
          column,
          'a quote in the middle of a field',
          'the whole field in quotes, and each quote inside doubled',
        )
      const bare = text[stop] === '\n' && field.endsWith('\r') ? field.slice(0, -1) : field
      fields.push(bare === '' ? null : bare)
      at = stop < 0 ? text.length : stop
      if (bare !== field) at--
    }
    if (at >= text.length) return { fields, next: at, lines }
    if (text.startsWith('\r\n', at)) return { fields, next: at + 2, lines }
    if (text[at] === '\n') return { fields, next: at + 1, lines }
    if (text[at] !== delimiter)
      throw fileInvalid(
        line + lines - 1,
        column,
        'something behind the closing quote of a field',
        'a delimiter or the end of the line; a quote inside a field is doubled',
      )
    at++
  }
}

/** Where a field in quotes is closed; -1 where it is not. */
function findClosing(text: string, from: number): number {
  for (let at = text.indexOf('"', from); at >= 0; at = text.indexOf('"', at + 2)) if (text[at + 1] !== '"') return at
  return -1
}

function endOfField(text: string, from: number, delimiter: string): number {
  const next = text.indexOf(delimiter, from)
  const end = text.indexOf('\n', from)
  return next < 0 ? end : end < 0 ? next : Math.min(next, end)
}
