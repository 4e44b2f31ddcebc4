import { csvRecords, findNearestName, parseJson, type MappingInfo } from '@ledgerman/contract'

/** How much of a file is looked at before it is sent, in bytes, and how many of its rows are shown. */
const LOOKED_AT = 64 * 1024
const SHOWN_ROWS = 5

/** What a column of a file is taken for. */
export interface PreviewColumn {
  name: string
  use: 'key' | 'set' | 'kept' | 'guard' | 'unknown'
  words: string
}

export interface FilePreview {
  form: 'csv' | 'ndjson'
  columns: PreviewColumn[]
  rows: (string | null)[][]
}

/** The first rows of a file, and how its columns are understood. @throws LedgermanProblem file-invalid */
export async function previewFile(
  file: File,
  mapping: MappingInfo,
  guard: string | null,
  delimiter: string,
): Promise<FilePreview> {
  const form = /\.(ndjson|jsonl)$/i.test(file.name) ? 'ndjson' : 'csv'
  const bytes = await file.slice(0, LOOKED_AT).text()
  // The last line may be cut.
  const text = (file.size > LOOKED_AT ? bytes.slice(0, bytes.lastIndexOf('\n') + 1) : bytes).replace(/^\uFEFF/, '')
  const lines = form === 'csv' ? await firstRecords(text, delimiter) : firstObjects(text)
  const [names = [], ...rows] = lines
  return {
    form,
    columns: names.map((name) => describeColumn(name ?? '', mapping, guard, names.length === 1 && form === 'csv')),
    rows: rows.slice(0, SHOWN_ROWS),
  }
}

async function firstRecords(text: string, delimiter: string): Promise<(string | null)[][]> {
  const rows: (string | null)[][] = []
  try {
    for await (const records of csvRecords(once(text), delimiter)) rows.push(...records.map(({ fields }) => fields))
  } catch (error) {
    // What stands before it may say why: with another delimiter there is no quote in the middle of a field.
    if (rows.length === 0) throw error
  }
  return rows
}

async function* once(text: string): AsyncGenerator<string> {
  yield await Promise.resolve(text)
}

function firstObjects(text: string): (string | null)[][] {
  const objects = text
    .split('\n')
    .filter((line) => line.trim() !== '')
    .slice(0, SHOWN_ROWS)
    .map((line) => parseJson(line) as Record<string, unknown>)
  const names = Object.keys(objects[0] ?? {})
  const textOf = (value: unknown) =>
    value === null || value === undefined ? null : typeof value === 'string' ? value : JSON.stringify(value)
  return [names, ...objects.map((each) => names.map((name) => textOf(each[name])))]
}

/** @param isAlone whether it is the whole line: then another delimiter may be meant */
function describeColumn(name: string, mapping: MappingInfo, guard: string | null, isAlone: boolean): PreviewColumn {
  if (name === guard) return { name, use: 'guard', words: "the row's guard" }
  const property = mapping.properties?.find((each) => each.name === name)
  if (!property) {
    const near = findNearestName(name, mapping.properties?.map((each) => each.name) ?? [])
    const hint = isAlone ? ': is another delimiter meant?' : near === undefined ? '' : `: is ${near} meant?`
    return { name, use: 'unknown', words: `not a property of ${mapping.name}${hint}` }
  }
  if (property.key) return { name, use: 'key', words: 'finds the record' }
  if (!property.writable) return { name, use: 'kept', words: 'has to be as it is' }
  return { name, use: 'set', words: `sets ${property.type}` }
}
