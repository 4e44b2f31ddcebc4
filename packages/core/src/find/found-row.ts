import type { RecordValues } from '@ledgerman/contract'
import type { FindStatement } from '../statement/build-find.js'
import { propertyValue } from '../transaction/record-row.js'

/** Makes a record of a found row: what comes over a link stands in an object of its own, null where no record is there. */
export function readFoundRow(
  { columns, linkPaths }: Pick<FindStatement, 'columns' | 'linkPaths'>,
  row: readonly (string | null)[],
): RecordValues {
  const record: RecordValues = {}
  const missing = new Set(linkPaths.filter((_, at) => row[columns.length + at] !== 't').map((path) => path.join('.')))
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
    inside[path.at(-1) ?? ''] = propertyValue(mapping, property, row[at] ?? null)
  })
  return record
}
