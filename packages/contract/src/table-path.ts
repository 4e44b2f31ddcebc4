import { LedgermanProblem } from './problem/ledgerman-problem.js'

/** A table's two names, as the catalogue has them. */
export interface TablePath {
  schema: string
  name: string
}

/** Writes `schema.table`, with a part in double quotes only where it would be misread without. */
export function toTablePath(schema: string, name: string): string {
  return `${quotePart(schema)}.${quotePart(name)}`
}

/**
 * Reads `schema.table`. A part in double quotes may hold anything (a quote doubled); one without is taken as it stands,
 * letter case included. A lone name is looked for in the schema `public`.
 *
 * @throws LedgermanProblem request-invalid
 */
export function parseTablePath(path: string): TablePath {
  const parts: string[] = []
  const pattern = /(?:\s*"((?:[^"]|"")+)"\s*|([^".]+))(\.|$)/y
  while (pattern.lastIndex < path.length) {
    const found = pattern.exec(path)
    if (!found) throw notATable(path)
    parts.push(found[1]?.replaceAll('""', '"') ?? found[2]?.trim() ?? '')
    if (found[3] === '.' && pattern.lastIndex === path.length) throw notATable(path)
  }
  const [first, second, ...more] = parts
  if (first === undefined || more.length > 0) throw notATable(path)
  return second === undefined ? { schema: 'public', name: first } : { schema: first, name: second }
}

function quotePart(part: string): string {
  return /[."\s]/.test(part) || part === '' ? `"${part.replaceAll('"', '""')}"` : part
}

function notATable(path: string): LedgermanProblem {
  return new LedgermanProblem(
    'request-invalid',
    `"${path}" does not name a table: expected schema.table, with a part that holds a dot or quote in double quotes.`,
    { where: 'table' },
  )
}
