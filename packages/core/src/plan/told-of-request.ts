import { isProblem, LedgermanProblem } from '@ledgerman/contract'
import type { DefinitionFinding } from '../mapping/resolve-mapping.js'

/**
 * What is wrong with steps that were made of a request, told as what is wrong with the request: whoever sent it knows of no steps.
 *
 * @param stepPlace what the place of each finding has to begin with, and what is left out of it then
 * @returns the error as it is, where it is no such one
 */
export function toldOfRequest(error: unknown, stepPlace: RegExp): unknown {
  const findings = isProblem(error, 'definition-invalid') ? (error.facts['findings'] as DefinitionFinding[]) : undefined
  if (!findings || findings.length === 0 || !findings.every(({ where }) => stepPlace.test(where))) return error
  const own = findings.map(({ where, message }) => ({ where: where.replace(stepPlace, '') || 'body', message }))
  const [{ where: place, message } = { where: '', message: '' }] = own
  const expected = /^expected (.*?)(?:, got .*)?$/s.exec(message)?.[1]
  const code = /^(?:where|compute)/.test(place)
    ? 'expression-invalid'
    : expected !== undefined
      ? 'value-invalid'
      : 'request-invalid'
  const words = own.map(({ where, message }) => `${where}: ${message}`).join('; ')
  return new LedgermanProblem(
    code,
    `${words.replace(/[.;]$/, '')}.`,
    { where: place, ...(expected === undefined ? {} : { expected }), findings: own },
    { cause: error },
  )
}
