import colors from 'picocolors'
import type { CodeProof, ProvenCase } from '@ledgerman/contract'
import { keyToText, countOf } from '@ledgerman/client'
import { formatTable, formatValue } from './table.js'

/** What was done through the service and through the written code, for people. */
export function formatProof({ cases, notTried, durationMs }: CodeProof): string {
  const seconds = `${(durationMs / 1000).toFixed(1)} s`
  const different = cases.filter(({ same }) => !same)
  const headline =
    cases.length === 0
      ? colors.red('Nothing was tried.')
      : different.length === 0
        ? colors.green(`${countOf(cases.length, 'case')} in ${seconds}: the written code does what the service does.`)
        : colors.red(`${different.length} of ${cases.length} cases in ${seconds} come out differently.`)
  const rows = cases.map(({ what, service, code, rows: written, same }) => [
    same ? colors.green('same') : colors.red('differs'),
    what,
    told(service),
    same ? '' : told(code),
    written === 0 ? '' : String(written),
  ])
  const table =
    cases.length === 0 ? [] : [formatTable(['', 'case', 'service', 'code', 'rows written'], rows, ['rows written'])]
  const untried = notTried.map((words) => `${colors.yellow('not tried')}: ${words}`)
  return [headline, ...table, ...different.flatMap(rowsOf), ...untried].join('\n\n')
}

/** Counts in short; a loaded record is too long for a table. */
function told(text: string): string {
  const counts = /^\{"matched":(\d+|null),"changed":(\d+|null)\}$/.exec(text)
  if (counts) return `matched ${counts[1]}, changed ${counts[2]}`
  return text.startsWith('{"record"') ? 'the record and its guard' : text
}

function rowsOf({ what, differing, entries }: ProvenCase): string[] {
  const book = entries
    ? [`${colors.bold(`${what}: the book`)}\nservice  ${entries.service}\ncode     ${entries.code}`]
    : []
  if (differing.length === 0) return book
  const lines = differing.flatMap(({ table, key, before, after }) =>
    Object.keys(after ?? before ?? {}).map((column) => [
      `${table} ${keyToText(key, ',')}`,
      column,
      before ? formatValue(before[column]) : 'no row',
      after ? formatValue(after[column]) : 'no row',
    ]),
  )
  return [`${colors.bold(what)}\n${formatTable(['row', 'column', 'service', 'code'], lines)}`, ...book]
}
