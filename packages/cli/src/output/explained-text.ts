import colors from 'picocolors'
import type { Explained } from '@ledgerman/contract'
import { formatBinds, indent } from './receipt-text.js'

/** A statement before it is run: what it is, how its rows are found, and the database's own plan. */
export function formatExplained({ statement, binds, index, message, plan }: Explained): string {
  const verdict = {
    serves: colors.green('An index serves.'),
    partly: colors.yellow('Indexes serve in part.'),
    'not used': colors.yellow('No index is used.'),
  }[index]
  return [
    indent(statement),
    ...(binds.length > 0 ? [indent(formatBinds(binds, statement))] : []),
    `${verdict}\n${message}`.trimEnd(),
    `${colors.dim("PostgreSQL's plan")}\n${indent(plan)}`,
  ].join('\n\n')
}
