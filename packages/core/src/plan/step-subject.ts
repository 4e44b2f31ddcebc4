import type { StepDefinition, TransactionDefinition } from '@ledgerman/contract'

/** The mapping or loaded name a step is about; undefined where it is about none. */
export function subjectOf(step: StepDefinition): string | undefined {
  if ('load' in step) return step.load
  if ('change' in step) return step.change
  if ('replace' in step) return step.replace
  if ('add' in step) return step.add
  return 'remove' in step ? step.remove : undefined
}

/** The names of the mappings that a definition uses. */
export function mappingNamesOf({ steps }: Pick<TransactionDefinition, 'steps'>): Set<string> {
  const given = new Set(steps.flatMap((step) => ('as' in step && step.as !== undefined ? [step.as] : [])))
  return new Set(
    steps.flatMap((step) => {
      const subject = subjectOf(step)
      // Only mappings are loaded and added to; the others may be about a record that a step has given a name.
      return subject === undefined || (given.has(subject) && !('load' in step) && !('add' in step)) ? [] : [subject]
    }),
  )
}
