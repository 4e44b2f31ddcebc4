import { includesRole, type Role } from '@ledgerman/contract'

/**
 * Who holds a lock may be told to everybody who waits for it. What that session ran may hold anybody's data, so that is for authors,
 * as the list of waits is.
 */
export function hideStatements<T>(value: T, role: Role): T {
  return includesRole(role, 'author') ? value : (withoutStatements(value) as T)
}

function withoutStatements(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(withoutStatements)
  if (value === null || typeof value !== 'object' || Object.getPrototypeOf(value) !== Object.prototype) return value
  return Object.fromEntries(
    Object.entries(value).map(([name, each]) => [name, name === 'lastStatement' ? null : withoutStatements(each)]),
  )
}
