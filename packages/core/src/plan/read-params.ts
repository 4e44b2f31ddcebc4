import { LedgermanProblem, suggestName, type Json } from '@ledgerman/contract'
import { parameterText } from '../statement/parameter-value.js'
import type { Param, Plan } from './plan.js'

/**
 * Checks a run's parameters before anything is sent: each there, of its type, and none too many.
 *
 * @returns their values in PostgreSQL's text form.
 * @throws LedgermanProblem request-invalid, value-invalid
 */
export function readParams(
  { params, name: transaction, sensitiveParams }: Plan,
  given: Readonly<Record<string, Json>>,
): Map<string, string | null> {
  for (const name of Object.keys(given)) {
    if (params.has(name)) continue
    const hint = params.size > 0 ? suggestName(name, params.keys()) : 'It takes none.'
    throw new LedgermanProblem(
      'request-invalid',
      `${name} is not a parameter of ${transaction ?? 'these steps'}. ${hint}`,
      {
        where: `params.${name}`,
        parameter: name,
      },
    )
  }
  return new Map(
    [...params.values()].map((param) => [
      param.name,
      textOf(param, given, transaction, sensitiveParams.has(param.name)),
    ]),
  )
}

function textOf(
  { name, type, nullable, default: fallback }: Param,
  given: Readonly<Record<string, Json>>,
  transaction: string | null,
  sensitive: boolean,
): string | null {
  if (!Object.hasOwn(given, name)) {
    if (fallback !== undefined) return fallback
    throw new LedgermanProblem(
      'request-invalid',
      `${transaction ?? 'The run'} needs the parameter ${name}${type ? ` (${type.sql})` : ''}.`,
      {
        where: `params.${name}`,
        parameter: name,
        expected: type?.sql,
      },
    )
  }
  const value = given[name] ?? null
  if (value === null && !nullable)
    throw new LedgermanProblem('value-invalid', `:${name}: expected ${type?.sql ?? 'a value'}, got null.`, {
      where: name,
      parameter: name,
      expected: type?.sql,
    })
  return parameterText({ name, isList: false, as: type }, sensitive, value)
}
