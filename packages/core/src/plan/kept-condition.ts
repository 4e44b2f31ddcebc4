import { withoutLiterals } from '../values/expression/without-literals.js'
import type { Statement } from '../statement/statement.js'

/** A condition as it may be shown and kept: where one of its statement's values must not be shown, without any. */
export function keptCondition(where: string, { slots }: Pick<Statement, 'slots'>): string {
  return slots.some(({ sensitive }) => sensitive) ? withoutLiterals(where) : where
}
