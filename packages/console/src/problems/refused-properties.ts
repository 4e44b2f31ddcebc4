import { isProblem, type BrokenValue } from '@ledgerman/contract'

/** The properties that a refusal speaks of, each with what its field says: what breaks a rule, or that it is meant. */
export function refusedProperties(problem: unknown): Record<string, string> {
  if (!isProblem(problem)) return {}
  const { expected, where } = problem.facts
  const { broken = [], properties = [] } = problem.facts as { broken?: BrokenValue[]; properties?: string[] }
  const words = problem.code === 'rule-broken' ? 'breaks the rule' : 'breaks the constraint'
  return Object.fromEntries([
    ...properties.map((name) => [name, `Refused: ${problem.code}`] as const),
    ...(typeof expected === 'string' && typeof where === 'string' ? [[where, `Expected ${expected}`] as const] : []),
    ...broken.map(({ property, value, masked }) => [property, masked ? words : `${String(value)} ${words}`] as const),
  ])
}

/** The parameter that a refusal speaks of, with what its field says. */
export function refusedParameter(problem: unknown): Record<string, string> {
  if (!isProblem(problem)) return {}
  const { parameter, expected, rule } = problem.facts
  if (typeof parameter !== 'string') return {}
  return { [parameter]: typeof expected === 'string' ? `Expected ${expected}` : `Breaks ${String(rule ?? 'its rule')}` }
}

/** The same of one of several runs, from 0: a refusal that names none is of the first. */
export function refusedOfRun(problem: unknown, at: number): Record<string, string> {
  if (!isProblem(problem)) return {}
  const { where, ...facts } = problem.facts
  const [, of = '0', place = where] = /^runs\.(\d)(?:\.(.*))?$/.exec(String(where)) ?? []
  if (Number(of) !== at) return {}
  const own = problem.with({ ...facts, where: place })
  return { ...refusedProperties(own), ...refusedParameter(own) }
}

/** Brings the reader to the first field of a form that is marked. */
export function focusFirst(names: readonly string[]): void {
  for (const name of names) {
    const field = document.querySelector<HTMLElement>(
      `[data-test="property-${CSS.escape(name)}"] :is(input, textarea):not([readonly])`,
    )
    if (field) return field.focus()
  }
}
