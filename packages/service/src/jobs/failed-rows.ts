import { stringify } from 'csv-stringify/sync'
import { printJson, type Json } from '@ledgerman/contract'
import { jsonOfText, readCopyLine, readColumns, type Mapping } from '@ledgerman/core'
import { CSV_RULES } from '../http/rows-as-text.js'
import type { ClaimedJob } from './job-row.js'
import type { JobStore } from './job-store.js'

/** The rows of a file that were not applied, in the form they came in, each with its reason: to be put right and sent again. */
export async function* failedRows(
  jobs: JobStore,
  mapping: Mapping,
  job: ClaimedJob & { request: { kind: 'file' } },
): AsyncGenerator<string> {
  const { request } = job
  const failed = await jobs.failed(job.id)
  const { shape, guardPlace } = readColumns(mapping, request.names, request, 1)
  const reasonName = freeName(request.names)
  const isCsv = request.form === 'csv'
  const csv = (fields: (string | null)[]) => stringify([fields], { ...CSV_RULES, delimiter: request.delimiter })
  yield isCsv ? csv([...request.names, reasonName]) : ''
  if (failed.size === 0) return
  let rest = ''
  for await (const part of jobs.parts(job.id)) {
    const lines = (rest + part.toString()).split('\n')
    rest = lines.pop() ?? ''
    let text = ''
    for (const each of lines) {
      const { line, row } = readCopyLine(each)
      const why = failed.get(line)
      if (!why) continue
      const values = request.names.map((name, at): Json => {
        const place = shape.properties.findIndex((property) => property.name === name)
        if (at === guardPlace) return row[shape.properties.length] ?? null
        const property = shape.properties[place]
        return property ? jsonOfText(row[place] ?? null, property) : null
      })
      text += isCsv
        ? csv([...values.map(fieldOf), why.reason])
        : `${printJson(Object.fromEntries([...request.names.map((name, at) => [name, values[at]]), [reasonName, why.reason]]))}\n`
    }
    if (text !== '') yield text
  }
}

function fieldOf(value: Json): string | null {
  return value === null || typeof value === 'string' ? value : printJson(value)
}

function freeName(names: readonly string[]): string {
  let name = 'reason'
  while (names.includes(name)) name += '_'
  return name
}
