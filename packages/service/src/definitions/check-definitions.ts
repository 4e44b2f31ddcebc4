import {
  isProblem,
  LedgermanProblem,
  suggestName,
  type MappingDefinition,
  type TransactionDefinition,
} from '@ledgerman/contract'
import {
  checkExamples,
  checkFinds,
  checkLinkColumns,
  checkLinkEnds,
  checkRules,
  checkStatements,
  mappingNamesOf,
  resolvePlan,
  Sources,
  resolveMapping,
  type DefinitionFinding,
  type Mapping,
  type Table,
  type Target,
} from '@ledgerman/core'
import type { TargetRegistry } from '../targets/target-registry.js'
import type { ReadDefinition, SourceFinding } from './read-definition.js'

export type CheckedFinding = SourceFinding & { definition: string; advice?: string }

/**
 * Checks definitions against the live target, and against each other and those that are published.
 *
 * @param isLenient whether a link may lead to a mapping that is still to be published: one by one, some come first.
 * @returns everything that does not fit, each with its place.
 */
export async function checkDefinitions(
  targets: TargetRegistry,
  target: Target,
  reads: readonly ReadDefinition[],
  { isLenient = false }: { isLenient?: boolean } = {},
): Promise<CheckedFinding[]> {
  target.forgetCatalogue()
  const findings = duplicates(reads)
  const published = await targets.mappings.list(target.name)
  const mappings = new Map<string, MappingDefinition>(published.map(({ name, definition }) => [name, definition]))
  for (const read of reads) if (read.kind === 'mapping') mappings.set(read.name, read.definition)
  const ofMappings = reads.map(async (read) => {
    if (read.kind !== 'mapping') return []
    const wrong = [
      ...(await mappingFindings(target, read.definition)),
      ...(isLenient ? [] : checkLinkEnds(read.definition, mappings)),
      ...(await linkFindings(target, read.definition, mappings)),
    ]
    return wrong.map((finding) => placed(read, finding))
  })
  findings.push(...(await Promise.all(ofMappings)).flat())
  const resolved = new Map<string, Promise<Mapping>>()
  const findMapping = (name: string) => {
    let found = resolved.get(name)
    if (!found) resolved.set(name, (found = resolveNamed(target, name, mappings)))
    return found
  }
  for (const read of reads)
    if (read.kind === 'mapping' && (read.definition.finds ?? read.definition.rules) && !findings.some(isOf(read))) {
      const wrong = await expressionFindings(target, read.definition, findMapping, isLenient)
      findings.push(...wrong.map((finding) => placed(read, finding)))
    }
  for (const read of reads)
    if (read.kind === 'transaction') {
      const wrong = await transactionFindings(target, read.definition, findMapping)
      findings.push(...wrong.map((finding) => placed(read, finding)))
    }
  if (findings.length === 0) findings.push(...(await brokenUses(targets, target, reads, mappings, findMapping)))
  return findings
}

function isOf(read: ReadDefinition) {
  return ({ definition }: CheckedFinding): boolean => definition === `${read.kind} ${read.name}`
}

/** What of a mapping's rules, and of the finds that it names, does not fit. */
async function expressionFindings(
  target: Target,
  { mapping: name }: MappingDefinition,
  findMapping: (name: string) => Promise<Mapping>,
  isLenient: boolean,
): Promise<DefinitionFinding[]> {
  try {
    const mapping = await findMapping(name)
    return [...(await checkRules(target, mapping)), ...(await checkFinds(target, mapping, findMapping, isLenient))]
  } catch (error) {
    if (isProblem(error, 'definition-invalid') || isProblem(error, 'not-found')) return findingsOf(error)
    throw error
  }
}

async function resolveNamed(
  target: Target,
  name: string,
  mappings: ReadonlyMap<string, MappingDefinition>,
): Promise<Mapping> {
  const definition = mappings.get(name)
  if (!definition)
    throw new LedgermanProblem('not-found', `there is no mapping ${name}. ${suggestName(name, mappings.keys())}`, {
      mapping: name,
    })
  return resolveMapping(definition, 0, await target.table(definition.table))
}

/**
 * What of a transaction does not fit: names, then types as PostgreSQL prepares its statements.
 *
 * @param isMeant whether it is looked at at all, given what it leads to
 */
async function transactionFindings(
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
    if (isProblem(error, 'definition-invalid') || isProblem(error, 'not-found')) return findingsOf(error)
    throw error
  }
}

/** Published transactions, and finds of published mappings, that would no longer fit if these mappings were published. */
async function brokenUses(
  targets: TargetRegistry,
  target: Target,
  reads: readonly ReadDefinition[],
  mappings: ReadonlyMap<string, MappingDefinition>,
  findMapping: (name: string) => Promise<Mapping>,
): Promise<CheckedFinding[]> {
  const changed = new Map(reads.flatMap((read) => (read.kind === 'mapping' ? [[read.name, read] as const] : [])))
  if (changed.size === 0) return []
  const replaced = new Set(reads.flatMap((read) => (read.kind === 'transaction' ? [read.name] : [])))
  const firstChanged = (names: Iterable<string>) => changed.get([...names].find((name) => changed.has(name)) ?? '')
  const findings: CheckedFinding[] = []
  const told = (read: ReadDefinition, user: string, wrong: readonly DefinitionFinding[], advice: string) => {
    for (const { where, message } of wrong)
      findings.push({
        ...placed(read, { where: '', message: `${user} uses it and would no longer fit: ${where}: ${message}` }),
        advice,
      })
  }
  for (const { name, definition } of await targets.transactions.list(target.name)) {
    const within = firstChanged(withinReach(mappingNamesOf(definition), mappings))
    if (replaced.has(name) || !within) continue
    let read: ReadDefinition | undefined
    const wrong = await transactionFindings(target, definition, findMapping, (sources) => {
      read = firstChanged(sources.mappingNames())
      return read !== undefined
    })
    const advice = 'Publish the transaction, corrected, together with the mapping.'
    told(read ?? within, `the transaction ${name}`, wrong, advice)
  }
  for (const [name, definition] of mappings) {
    if (changed.has(name) || !definition.finds || !firstChanged(withinReach([name], mappings))) continue
    const sources = new Sources(target, findMapping)
    const wrong = await expressionFindings(target, definition, sources.mapping, true)
    const read = firstChanged(sources.mappingNames())
    if (read) told(read, `the mapping ${name}`, wrong, 'Publish both mappings together, corrected.')
  }
  return findings
}

/** The mappings of these names, and those that links lead to from them. */
function withinReach(names: Iterable<string>, mappings: ReadonlyMap<string, MappingDefinition>): Set<string> {
  const reached = new Set(names)
  // A set that grows is gone through to its end.
  for (const name of reached)
    for (const link of Object.values(mappings.get(name)?.links ?? {})) reached.add(link.mapping)
  return reached
}

/** What of a mapping does not fit its table. */
async function mappingFindings(target: Target, definition: MappingDefinition): Promise<DefinitionFinding[]> {
  try {
    resolveMapping(definition, 0, await target.table(definition.table))
    return []
  } catch (error) {
    if (isProblem(error, 'not-found')) return [{ where: 'table', message: error.detail }]
    if (isProblem(error, 'definition-invalid')) return findingsOf(error)
    throw error
  }
}

/** What of a mapping's links leads elsewhere than the database's own foreign keys; a table that is not there is told with its mapping. */
async function linkFindings(
  target: Target,
  definition: MappingDefinition,
  mappings: ReadonlyMap<string, MappingDefinition>,
): Promise<DefinitionFinding[]> {
  const named = [
    definition,
    ...Object.values(definition.links ?? {}).flatMap((link) => mappings.get(link.mapping) ?? []),
  ]
  const ends = new Map<string, { definition: MappingDefinition; table: Table }>()
  for (const each of named) {
    const table = await target.table(each.table).catch((error: unknown) => {
      if (isProblem(error, 'not-found')) return undefined
      throw error
    })
    if (table) ends.set(each.mapping, { definition: each, table })
  }
  const own = ends.get(definition.mapping)
  return own ? checkLinkColumns(own, (name) => ends.get(name)) : []
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
  if (where === 'table') return 'Name the table as it is now, or remove the mapping.'
  if (/^properties\..*\.column$/.test(where))
    return 'Name the column as it is now, or remove the property and what uses it; then publish.'
  if (/^key/.test(where)) return 'Name properties whose columns are unique and not null together.'
  if (/^guard/.test(where)) return 'Choose a guard that the table has; then publish.'
  if (/^links/.test(where)) return 'Publish the other mapping too, or correct the link.'
  return undefined
}

function duplicates(reads: readonly ReadDefinition[]): CheckedFinding[] {
  const first = new Map<string, ReadDefinition>()
  return reads.flatMap((read) => {
    const name = `${read.kind} ${read.name}`
    const other = first.get(name)
    if (!other) first.set(name, read)
    return other
      ? [
          placed(read, {
            where: read.kind,
            message: `${name} is defined in ${other.file ?? 'an earlier definition'} as well`,
          }),
        ]
      : []
  })
}
