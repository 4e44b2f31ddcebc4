import { isProblem, LedgermanProblem, type Finding } from '@ledgerman/contract'
import { parse } from 'yaml'
import { readText } from './read-text.js'

/** What a file of steps says of a run: everything but how it is run. */
export type StepsOfFile = Record<string, unknown> & {
  steps: unknown
  /** Values of parameters. */
  params: Record<string, unknown>
  types: Record<string, string | { type: string; nullable: boolean }>
}

/**
 * Reads the steps of a run: a list of them, or an object as transactions are defined by. Its `params` are values, or declare a type and a
 * default, as in a definition.
 *
 * @throws LedgermanProblem request-invalid
 */
export function readSteps(file: string): StepsOfFile {
  const text = readText(file)
  let content: unknown
  try {
    content = parse(text, { version: '1.2' })
  } catch (error) {
    throw refused(file, `cannot be read: ${(error as Error).message}`)
  }
  if (Array.isArray(content)) return { steps: content, params: {}, types: {} }
  if (!isObject(content) || !('steps' in content))
    throw refused(file, 'expected a list of steps, or an object with steps.')
  // A definition's name, summary and examples say nothing of a run.
  const {
    transaction: _,
    summary: _summary,
    examples: _examples,
    params: given = {},
    types = {},
    steps,
    ...rest
  } = content
  if (!isObject(given) || !isObject(types)) throw refused(file, 'params and types: expected an object.')
  const params: Record<string, unknown> = {}
  const declared: StepsOfFile['types'] = { ...(types as StepsOfFile['types']) }
  for (const [name, param] of Object.entries(given)) {
    if (!isObject(param) || typeof param['type'] !== 'string') {
      params[name] = param
      continue
    }
    const { type, nullable = false, default: value, rule } = param
    if (rule !== undefined)
      throw refused(file, `params.${name}.rule: steps that are not published have no rules; say it as a step require.`)
    declared[name] = { type, nullable: nullable === true }
    if (value !== undefined) params[name] = value
  }
  return { ...rest, steps, params, types: declared }
}

/** The same problem, with the file in front of what was found in its steps; a mapping that they use stands in another. */
export function inFile(file: string, error: unknown): unknown {
  if (!isProblem(error, 'definition-invalid') || error.facts['definition'] !== 'steps') return error
  const findings = error.facts['findings'] as Finding[] | undefined
  if (!findings) return error
  return error.with({ findings: findings.map((finding) => ({ ...finding, file })) })
}

function refused(file: string, why: string): LedgermanProblem {
  return new LedgermanProblem('request-invalid', `${file}: ${why}`, { where: file })
}

function isObject(value: unknown): value is Record<string, unknown> {
  return value !== null && typeof value === 'object' && !Array.isArray(value)
}
