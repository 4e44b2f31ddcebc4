import { stringify } from 'csv-stringify/sync'
import { printJson, type RecordValues } from '@ledgerman/contract'

export const NDJSON = 'application/x-ndjson'
export const CSV = 'text/csv'

export const contentTypes = { csv: `${CSV}; charset=utf-8; header=present`, ndjson: NDJSON }

/** How CSV is written: RFC 4180; null is an empty field, and an empty text one in quotes. To say so by a function for each field takes 20 times as long. */
export const CSV_RULES = { record_delimiter: '\r\n', quoted_match: /^$/ }

/** Where a column's value stands in its row: a member, or a member of that. */
type Path = readonly string[]

/** Rows in that media type, as they come; in CSV a path's names are joined by points. */
export function asText(type: string, columns: readonly Path[], batches: AsyncIterable<RecordValues[]>) {
  return type === CSV
    ? { contentType: contentTypes.csv, chunks: csv(columns, batches) }
    : { contentType: contentTypes.ndjson, chunks: ndjson(batches) }
}

/** Lines as the server wrote them. */
export async function* lines(
  form: 'csv' | 'ndjson',
  columns: string[],
  batches: AsyncIterable<string[]>,
): AsyncGenerator<string> {
  const end = form === 'csv' ? '\r\n' : '\n'
  let header = form === 'csv' ? stringify([columns], { record_delimiter: end }) : ''
  for await (const batch of batches) {
    yield header + batch.join(end) + end
    header = ''
  }
  if (header !== '') yield header
}

async function* ndjson(batches: AsyncIterable<RecordValues[]>): AsyncGenerator<string> {
  for await (const records of batches) yield records.map((record) => `${printJson(record)}\n`).join('')
}

/** RFC 4180, with a header line. Null is an empty field, and an empty text one in quotes. */
async function* csv(columns: readonly Path[], batches: AsyncIterable<RecordValues[]>): AsyncGenerator<string> {
  let header = stringify([columns.map((path) => path.join('.'))], CSV_RULES)
  for await (const records of batches) {
    const rows = records.map((record) => columns.map((path) => fieldOf(record, path)))
    yield header + stringify(rows, CSV_RULES)
    header = ''
  }
  if (header !== '') yield header
}

function fieldOf(record: RecordValues, path: Path): string | null {
  let value: unknown = record
  for (const name of path) value = value === null ? null : (value as RecordValues)[name]
  if (value === null || value === undefined) return null
  return typeof value === 'string' ? value : printJson(value)
}
