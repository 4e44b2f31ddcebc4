import { isProblem, LedgermanProblem, type RecordValues } from '@ledgerman/contract'
import type { FindStatement } from '../../statement/build-find.js'
import { propertyValue } from '../../mapping/record-row.js'

/** Makes a record of a found row: what comes over a link stands in an object of its own, null where no record is there. */
export function readFoundRow(
  { columns, linkPaths }: Pick<FindStatement, 'columns' | 'linkPaths'>,
  row: readonly (string | null)[],
): RecordValues {
  const record: RecordValues = {}
  const missing =
    linkPaths.length === 0
      ? NONE
      : new Set(linkPaths.filter((_, at) => row[columns.length + at] !== 't').map((path) => path.join('.')))
  columns.forEach(({ path, mapping, property }, at) => {
    let inside = record
    for (let depth = 1; depth < path.length; depth++) {
      const name = path[depth - 1] as string
      if (missing.has(path.slice(0, depth).join('.'))) {
        inside[name] = null
        return
      }
      inside = (inside[name] ??= {}) as RecordValues
    }
    try {
      inside[path.at(-1) ?? ''] = propertyValue(mapping, property, row[at] ?? null)
    } catch (error) {
      throw isProblem(error, 'value-invalid') ? inRow(error, columns, row) : error
    }
  })
  return record
}

const NONE: ReadonlySet<string> = new Set()

/** The same problem with the row that it is about: one value that cannot be shown would refuse a whole list otherwise unsaid. */
function inRow(
  problem: LedgermanProblem,
  columns: FindStatement['columns'],
  row: readonly (string | null)[],
): LedgermanProblem {
  const key = Object.fromEntries(
    columns.flatMap(({ path, property }, at) =>
      path.length === 1 && property.key && !property.sensitive ? [[property.name, row[at] ?? null]] : [],
    ),
  )
  const words = Object.entries(key).map(([name, value]) => `${name} ${value}`)
  if (words.length === 0) return problem
  return new LedgermanProblem(problem.code, `In the record ${words.join(', ')}: ${problem.detail}`, {
    ...problem.facts,
    key,
  })
}
