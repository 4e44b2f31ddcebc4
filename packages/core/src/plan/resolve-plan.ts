import { LedgermanProblem, isProblem, type StepDefinition, type TransactionDefinition } from '@ledgerman/contract'
import type { Expression } from '../values/expression/expression.js'
import { parseExpression } from '../values/expression/parse.js'
import { followLinks, Links, type FindMappingByName } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import type { Target } from '../target/target.js'
import type { ColumnType } from '../values/column-type.js'
import { loadGrammar } from './load-grammar.js'
import type { Plan } from './plan.js'
import { resolveTransaction } from './resolve-transaction.js'
import { mappingNamesOf, subjectOf } from './step-subject.js'

/**
 * Makes a plan out of a definition: asks for the mappings, links and types it names, then resolves it.
 *
 * @throws LedgermanProblem definition-invalid with all findings.
 */
export async function resolvePlan(
  target: Pick<Target, 'type'>,
  definition: Omit<TransactionDefinition, 'transaction'>,
  name: string | null,
  revision: number | null,
  findMapping: FindMappingByName,
): Promise<Plan> {
  if (definition.steps.some((step) => 'sql' in step)) await loadGrammar()
  const { mappings, missing } = await findMappings(definition, findMapping)
  const types = await findTypes(target, definition)
  const links = new Links()
  for (const step of definition.steps) {
    const mapping = mappings.get(subjectOf(step) ?? '') ?? mappingOfName(definition, subjectOf(step), mappings)
    if (mapping) await followLinks(mapping, expressionsOf(step), [], findMapping, links)
  }
  return resolveTransaction(definition, name, revision, { mappings, missing, links, types })
}

async function findMappings(
  definition: Pick<TransactionDefinition, 'steps'>,
  findMapping: FindMappingByName,
): Promise<{ mappings: Map<string, Mapping>; missing: Map<string, string> }> {
  const mappings = new Map<string, Mapping>()
  const missing = new Map<string, string>()
  for (const name of mappingNamesOf(definition)) {
    try {
      mappings.set(name, await findMapping(name))
    } catch (error) {
      // What is not there is found when the steps are resolved, with its place; one that does not fit is told at once.
      if (!isProblem(error, 'not-found') || !('mapping' in error.facts)) throw error
      missing.set(name, error.detail)
    }
  }
  return { mappings, missing }
}

/** The types that parameters name, as far as the target has them. */
export async function findTypes(target: Pick<Target, 'type'>, { params = {} }: Pick<TransactionDefinition, 'params'>) {
  const types = new Map<string, ColumnType>()
  for (const { type } of Object.values(params)) {
    const found = await target.type(type)
    if (found) types.set(type, found)
  }
  return types
}

function mappingOfName(
  { steps }: Pick<TransactionDefinition, 'steps'>,
  name: string | undefined,
  mappings: ReadonlyMap<string, Mapping>,
): Mapping | undefined {
  const giver = steps.find((step) => 'as' in step && step.as === name)
  return giver && mappings.get(subjectOf(giver) ?? '')
}

/** The expressions of a step that can follow links; what cannot be read is told when the step is resolved. */
function expressionsOf(step: StepDefinition): Expression[] {
  const sources = [
    ...('where' in step && step.where !== undefined ? [step.where] : []),
    ...('compute' in step ? Object.values(step.compute ?? {}).map(String) : []),
  ]
  return sources.flatMap((source) => {
    try {
      return [parseExpression(source)]
    } catch (error) {
      if (error instanceof LedgermanProblem) return []
      throw error
    }
  })
}
