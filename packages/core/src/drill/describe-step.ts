import { printJson, type Json } from '@ledgerman/contract'
import type { PlannedStep } from '../plan/plan.js'
import type { Drilled } from './scratch/observe-run.js'

/** A step in the words of its definition, short enough for a line. */
export function describeStep(step: PlannedStep, { plan, params }: Drilled): string {
  const definition = (plan.definition.steps[step.no - 1] ?? {}) as Record<string, unknown>
  const subject = String(definition[step.kind])
  if (step.kind === 'require') return `require ${subject}`
  if (step.kind === 'sql') return subject.replace(/\s+/g, ' ').slice(0, 80)
  const found =
    definition['where'] !== undefined
      ? ` where ${String(definition['where'])}`
      : definition['key'] !== undefined
        ? ` ${Object.values(definition['key'] as object)
            .map((part) => keyPart(String(part), params))
            .join(', ')}`
        : ''
  const set = [
    ...Object.entries((definition['values'] ?? {}) as object).map(([name, value]) => `${name} = ${printJson(value)}`),
    ...Object.entries((definition['compute'] ?? {}) as object).map(([name, value]) => `${name} = ${String(value)}`),
  ]
  const lock = definition['lock'] === undefined || definition['lock'] === 'none' ? '' : ', locked'
  return `${step.kind} ${subject}${found}${set.length > 0 ? `: ${set.join(', ')}` : ''}${lock}`
}

/** A part of a key is shown as its value where it is a parameter. */
function keyPart(expression: string, params: Readonly<Record<string, Json>>): string {
  const name = /^:([\p{L}_][\p{L}\p{N}_]*)$/u.exec(expression)?.[1] ?? ''
  const value = Object.hasOwn(params, name) ? params[name] : undefined
  return value === undefined ? expression : typeof value === 'string' ? value : printJson(value)
}
