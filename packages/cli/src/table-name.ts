import { LedgermanProblem } from '@ledgerman/contract'

/**
 * Reads `schema.table` or `table` (in the schema public); a part in double quotes may hold a dot.
 *
 * @throws LedgermanProblem request-invalid
 */
export function parseTableName(text: string): [schema: string, name: string] {
  const parts = [...text.matchAll(/"((?:[^"]|"")+)"|([^".]+)/g)].map(
    ([, quoted, plain]) => quoted?.replaceAll('""', '"') ?? plain ?? '',
  )
  const [first, second, ...more] = parts
  if (first === undefined || more.length > 0)
    throw new LedgermanProblem('request-invalid', `"${text}": expected schema.table.`, { where: 'table' })
  return second === undefined ? ['public', first] : [first, second]
}
