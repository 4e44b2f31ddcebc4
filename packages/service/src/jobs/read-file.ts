import { isUtf8 } from 'node:buffer'
import { createHash } from 'node:crypto'
import type { Readable } from 'node:stream'
import {
  csvRecords,
  fileInvalid,
  findJsonLimit,
  LedgermanProblem,
  LONGEST_RECORD,
  parseJson,
  type Json,
} from '@ledgerman/contract'
import { copyLine, readColumns, readRow, type GivenColumns, type Mapping } from '@ledgerman/core'
import type { OnMissing } from '@ledgerman/contract'

/** How much of a file is kept as one part, in bytes. */
const PART_SIZE = 512 * 1024

/** Whoever sends nothing for so long, or less than so many bytes a second on the whole, has no end in sight. In milliseconds. */
const IDLE_LIMIT_MS = 20_000
const SLOW_AFTER_MS = 20_000
const SLOWEST_BYTES_PER_SECOND = 500

export interface FileOptions {
  form: 'csv' | 'ndjson'
  delimiter: string
  guard: string | null
  onMissing: OnMissing
  limitBytes: number
}

/** A file that was read: how its header was understood, how many rows it has, and a digest of them. */
export interface ReadFile {
  columns: GivenColumns
  rows: number
  digest: string
}

/**
 * Reads a file of corrections as it comes: each row is checked against the mapping, and handed on in parts, as COPY takes it.
 *
 * @param keep told of each part, from 1.
 * @throws LedgermanProblem file-invalid with line and column, too-large, time-limit, no-key
 */
export async function readFile(
  source: Readable,
  mapping: Mapping,
  options: FileOptions,
  keep: (no: number, rows: number, lines: Buffer) => Promise<void>,
): Promise<ReadFile> {
  let columns: GivenColumns | undefined
  let [partBytes, partRows, parts, rows] = [0, 0, 0, 0]
  // Bytes, a batch at a time: as one text of many pieces they would be moved in memory again and again until they are sent.
  let part: Buffer[] = []
  const hash = createHash('sha256')
  // One part is kept while the next is read.
  let keeping: Promise<void> = Promise.resolve()
  const flush = async () => {
    await keeping
    if (partRows === 0) return
    const lines = Buffer.concat(part, partBytes)
    hash.update(lines)
    keeping = keep(++parts, partRows, lines)
    keeping.catch(() => undefined) // Told by whoever awaits it.
    ;[part, partBytes, partRows] = [[], 0, 0]
  }
  const records = options.form === 'csv' ? ofCsv(source, options) : ofNdjson(source, options)
  try {
    for await (const batch of records) {
      let lines = ''
      for (const { line, names, fields } of batch) {
        columns ??= readColumns(mapping, names, options, line)
        if (fields === null) continue
        lines += copyLine(++rows, line, readRow(mapping, columns, fields, options.form === 'csv', line))
        partRows++
      }
      const bytes = Buffer.from(lines)
      partBytes += bytes.length
      part.push(bytes)
      if (partBytes >= PART_SIZE) await flush()
    }
    await flush()
  } catch (error) {
    // Whoever drops what was kept finds all of it.
    await keeping.catch(() => undefined)
    throw error
  }
  await keeping
  if (!columns)
    throw fileInvalid(
      1,
      null,
      'the file is empty',
      options.form === 'csv' ? 'a line of column names, then a line a record' : 'a line a record',
    )
  if (rows === 0) throw fileInvalid(2, null, 'there is no row behind the header', 'a line for each record')
  return { columns, rows, digest: hash.digest('base64url') }
}

/** One record of a file; the header comes as one without fields. */
interface FileRecord {
  line: number
  names: string[]
  fields: (Json | undefined)[] | null
}

async function* ofCsv(source: Readable, { delimiter, limitBytes }: FileOptions): AsyncGenerator<FileRecord[]> {
  let names: string[] | undefined
  for await (const records of csvRecords(checkedText(source, limitBytes), delimiter)) {
    yield records.map(({ line, fields }) => {
      if (!names) {
        names = fields.map((name) => (name ?? '').trim())
        const nameless = names.indexOf('')
        if (nameless >= 0) throw fileInvalid(line, nameless + 1, 'the column has no name', 'a property')
        return { line, names, fields: null }
      }
      if (fields.length !== names.length) throw otherCount(line, fields, names)
      return { line, names, fields }
    })
  }
}

function otherCount(line: number, record: readonly (string | null)[], names: readonly string[]): LedgermanProblem {
  const count = (of: number) => `${of} ${of === 1 ? 'field' : 'fields'}`
  const hint =
    record.length < names.length
      ? ' Is the file cut off there, or another delimiter meant?'
      : ' Is a field that holds the delimiter not in quotes?'
  const column = Math.min(record.length, names.length) + 1
  return fileInvalid(line, column, count(record.length), `${count(names.length)}: ${names.join(', ')}`, hint)
}

/** One JSON object a line, all with the same members. */
async function* ofNdjson(source: Readable, { limitBytes }: FileOptions): AsyncGenerator<FileRecord[]> {
  let names: string[] | undefined
  for await (const lines of linesOf(checkedText(source, limitBytes))) {
    yield lines.flatMap(({ line, text }) => {
      if (text.trim() === '') return []
      const record = readObject(text, line)
      names ??= Object.keys(record)
      const known = names
      const unknown = Object.keys(record).find((name) => !known.includes(name))
      if (unknown !== undefined)
        throw fileInvalid(
          line,
          null,
          `the member ${unknown}, which the first line does not have`,
          `the members of the first line: ${names.join(', ')}`,
        )
      return { line, names, fields: names.map((name) => (Object.hasOwn(record, name) ? record[name] : undefined)) }
    })
  }
}

function readObject(text: string, line: number): Record<string, Json> {
  const limit = findJsonLimit(text)
  if (limit !== undefined) throw fileInvalid(line, null, limit, 'a flat JSON object')
  let value: Json
  try {
    value = parseJson(text)
  } catch (error) {
    throw fileInvalid(
      line,
      null,
      `no JSON: ${error instanceof Error ? error.message : String(error)}`,
      'one JSON object a line',
    )
  }
  if (
    value === null ||
    typeof value !== 'object' ||
    Array.isArray(value) ||
    Object.getPrototypeOf(value) !== Object.prototype
  )
    throw fileInvalid(line, null, 'JSON that is no object', 'one JSON object a line')
  return value as Record<string, Json>
}

/** The lines of a text, those of a piece of it together. */
async function* linesOf(text: AsyncIterable<string>): AsyncGenerator<{ line: number; text: string }[]> {
  let rest = ''
  let line = 1
  for await (const chunk of text) {
    const lines = (rest + chunk).split('\n')
    rest = lines.pop() ?? ''
    yield lines.map((each) => ({ line: line++, text: each }))
    if (rest.length > LONGEST_RECORD)
      throw fileInvalid(line, null, `a line of more than ${LONGEST_RECORD} characters`, 'one JSON object a line')
  }
  if (rest !== '') yield [{ line, text: rest }]
}

/** The text of what is sent, no larger, and no slower, than it may be. */
async function* checkedText(source: Readable, limitBytes: number): AsyncGenerator<string> {
  const decoder = new TextDecoder('utf-8', { fatal: true })
  const started = performance.now()
  let [bytes, lines] = [0, 1]
  const iterator = source[Symbol.asyncIterator]() as AsyncIterator<Buffer>
  try {
    for (;;) {
      const next = await within(iterator.next(), IDLE_LIMIT_MS)
      if (next.done) break
      bytes += next.value.length
      if (bytes > limitBytes)
        throw new LedgermanProblem('too-large', `The file is larger than ${limitBytes} bytes. Send it in parts.`, {
          where: 'body',
          limitBytes,
        })
      const elapsed = performance.now() - started
      if (elapsed > SLOW_AFTER_MS && (bytes / elapsed) * 1000 < SLOWEST_BYTES_PER_SECOND) throw tooSlow()
      let text: string
      try {
        text = decoder.decode(next.value, { stream: true })
      } catch {
        throw notUtf8(next.value, lines)
      }
      if (text.includes('\0'))
        throw fileInvalid(
          lines + text.slice(0, text.indexOf('\0')).split('\n').length - 1,
          null,
          'U+0000',
          'text: PostgreSQL cannot store it',
        )
      lines += text.split('\n').length - 1
      if (text !== '') yield text
    }
    try {
      decoder.decode()
    } catch {
      throw fileInvalid(lines, null, 'bytes that are no UTF-8, at the end', 'UTF-8. Is the file cut off?')
    }
  } finally {
    // What was not read yet is let go, so that its sender comes to read the answer.
    void letGo(iterator)
  }
}

async function letGo(iterator: AsyncIterator<unknown>): Promise<void> {
  try {
    while (!(await iterator.next()).done);
  } catch {
    // Its sender has gone.
  }
}

function notUtf8(chunk: Buffer, line: number): LedgermanProblem {
  let at = line
  // A character may begin in the chunk before: its rest at the beginning is none of its own.
  let from = 0
  while (from < 3 && ((chunk[from] ?? 0) & 0xc0) === 0x80) from++
  for (const text of splitLines(chunk.subarray(from))) {
    if (!isUtf8(text)) break
    at++
  }
  // The byte order mark of UTF-16 (the Unicode Standard, section 23.8).
  const isUtf16 = line === 1 && ['fffe', 'feff'].includes(chunk.toString('hex', 0, 2))
  const other = isUtf16 ? 'it is UTF-16' : 'it may be Latin-1 or Windows-1252'
  return fileInvalid(at, null, 'bytes that are no UTF-8', `UTF-8. Save the file as such; ${other}`)
}

function* splitLines(bytes: Buffer): Generator<Buffer> {
  let from = 0
  for (let at = bytes.indexOf(10); at >= 0; at = bytes.indexOf(10, from)) {
    yield bytes.subarray(from, at)
    from = at + 1
  }
  yield bytes.subarray(from)
}

async function within<T>(promise: Promise<T>, ms: number): Promise<T> {
  let timer: NodeJS.Timeout | undefined
  const over = new Promise<never>((_, reject) => {
    timer = setTimeout(() => reject(tooSlow()), ms)
  })
  try {
    return await Promise.race([promise, over])
  } finally {
    clearTimeout(timer)
    promise.catch(() => undefined)
  }
}

function tooSlow(): LedgermanProblem {
  return new LedgermanProblem(
    'time-limit',
    'The file comes too slowly, so it is not waited for any longer. Nothing was changed.',
    { where: 'body' },
  )
}
