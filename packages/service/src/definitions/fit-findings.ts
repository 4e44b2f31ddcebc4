import {
  isProblem,
  type LedgermanProblem,
  type MappingDefinition,
  type TransactionDefinition,
} from '@ledgerman/contract'
import {
  checkExamples,
  checkFinds,
  checkRules,
  checkStatements,
  resolvePlan,
  Sources,
  type DefinitionFinding,
  type Mapping,
  type Target,
} from '@ledgerman/core'
import type { ReadDefinition, SourceFinding } from './read-definition.js'

/** What does not fit, where it stands, whose it is, and what to do about it. */
export type CheckedFinding = SourceFinding & { definition: string; advice?: string }

/** What of a mapping's rules, and of the finds that it names, does not fit. */
export async function expressionFindings(
  target: Target,
  { mapping: name }: MappingDefinition,
  findMapping: (name: string) => Promise<Mapping>,
  isLenient: boolean,
): Promise<DefinitionFinding[]> {
  try {
    const mapping = await findMapping(name)
    return [...(await checkRules(target, mapping)), ...(await checkFinds(target, mapping, findMapping, isLenient))]
  } catch (error) {
    if (isProblem(error, 'definition-invalid', 'not-found')) return findingsOf(error)
    throw error
  }
}

/**
 * What of a transaction does not fit: names, then types as PostgreSQL prepares its statements.
 *
 * @param isMeant whether it is looked at at all, given what it leads to
 */
export async function transactionFindings(
  target: Target,
  definition: TransactionDefinition,
  findMapping: (name: string) => Promise<Mapping>,
  isMeant: (sources: Sources) => boolean = () => true,
): Promise<DefinitionFinding[]> {
  const sources = new Sources(target, findMapping)
  try {
    const plan = await resolvePlan(sources, definition, definition.transaction, 0, sources.mapping)
    if (!isMeant(sources)) return []
    const wrong = await checkStatements(target, plan)
    return wrong.length > 0 ? wrong : await checkExamples(target, plan)
  } catch (error) {
    if (!isMeant(sources)) return []
    if (isProblem(error, 'definition-invalid', 'not-found')) return findingsOf(error)
    throw error
  }
}

export function findingsOf(problem: LedgermanProblem): DefinitionFinding[] {
  const { findings, where } = problem.facts as { findings?: DefinitionFinding[]; where?: string }
  return findings ?? [{ where: where ?? '', message: problem.detail }]
}

/** A finding with its line: a rule's own place inside the text is added to where the text begins. */
export function placed(read: ReadDefinition, { where, message }: DefinitionFinding): CheckedFinding {
  const offset = / at character (\d+)[.:]/.exec(message)?.[1]
  const place = read.locate(where, offset === undefined ? 0 : Number(offset) - 1)
  const advice = adviceFor(where)
  return {
    file: read.file,
    ...place,
    where,
    message,
    definition: `${read.kind} ${read.name}`,
    ...(advice === undefined ? {} : { advice }),
  }
}

/** What to do where the message does not say it. */
function adviceFor(where: string): string | undefined {
  if (where === 'table') return 'Name the table as it is now; where it is gone, withdraw the mapping.'
  if (/^properties\..*\.column$/.test(where))
    return 'Name the column as it is now, or remove the property and what uses it; then publish.'
  if (/^key/.test(where)) return 'Name properties whose columns are unique and not null together.'
  if (/^guard/.test(where)) return 'Choose a guard that the table has; then publish.'
  if (/^links/.test(where)) return 'Publish the other mapping too, or correct the link.'
  return undefined
}
