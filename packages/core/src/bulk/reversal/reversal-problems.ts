import { LedgermanProblem, printJson, type RecordValues } from '@ledgerman/contract'
import type { Mapping, Property } from '../../mapping/mapping.js'

/** A row that is not as the entry left it: what it was left with, and what it is now; null where there is none. */
export interface ChangedRow {
  key: RecordValues
  left: RecordValues | null
  now: RecordValues | null
}

/** The problem for rows that were changed since. */
export function reversalConflict({ name }: Mapping, rows: readonly ChangedRow[], count: number): LedgermanProblem {
  const [first] = rows
  const more = count > 1 ? ` So ${count === 2 ? 'is 1 more row' : `are ${count - 1} more rows`}.` : ''
  return new LedgermanProblem(
    'reversal-conflict',
    `${name} ${first ? describe(first) : 'rows are not as the entry left them'}.${more} Nothing was put back; onlyUnchanged puts back the others.`,
    { mapping: name, rows, count },
  )
}

function describe({ key, left, now }: ChangedRow): string {
  // Of a sensitive key that no record has any more only a digest is known.
  const named = Object.values(key)
    .map((value) => (value === null ? 'of a sensitive key' : String(value)))
    .join(',')
  if (left === null) return `${named} is there again`
  if (now === null) return `${named} is not there any more`
  const differing = Object.keys(left).filter((each) => printJson(left[each]) !== printJson(now[each]))
  const words = differing
    .slice(0, 3)
    .map((each) => `${each} was left ${printJson(left[each])} and is ${printJson(now[each])}`)
  return `${named} was changed since: ${words.join(', ')}`
}

/** The problem for columns that were made shorter since, and would round what is put back. */
export function columnShortened({ name }: Mapping, properties: readonly Property[]): LedgermanProblem {
  const names = properties.map((property) => property.name)
  const types = properties.map(({ column }) => `${column.name} is ${column.type.sql}`).join(', ')
  return new LedgermanProblem(
    'value-invalid',
    `${name}: ${names.join(', ')} cannot be put back as it was, since the column keeps fewer digits now: ${types}. Nothing was put back.`,
    { mapping: name, where: names[0] ?? name, properties: names },
  )
}
