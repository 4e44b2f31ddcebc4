import { parseTablePath } from '@ledgerman/contract'
import { takeName, toPropertyName } from './property-name.js'

/**
 * The name that each table's derived mapping has: its own in camelCase, with the schema's before it where another table would have
 * the same, and a number behind it where even that is not enough. No two tables of a target get one name.
 *
 * @param paths all tables of the target, in an order that does not change
 * @param published the names that are taken already, each by its table
 */
export function mappingNames(paths: readonly string[], published: ReadonlyMap<string, string>): Map<string, string> {
  const named = new Map([...published].map(([name, path]) => [path, name]))
  const taken = new Set(published.keys())
  const plain = (path: string) => toPropertyName(parseTablePath(path).name)
  const counts = new Map<string, number>()
  for (const path of paths) counts.set(plain(path), (counts.get(plain(path)) ?? 0) + 1)
  for (const path of paths) {
    if (named.has(path)) continue
    const { schema, name } = parseTablePath(path)
    const own = plain(path)
    const isFree = !taken.has(own) && (counts.get(own) === 1 || schema === 'public')
    named.set(path, takeName(isFree ? own : toPropertyName(`${schema}_${name}`), taken))
  }
  return named
}
