import { isProblem, LedgermanProblem, suggestName, type FindDefinition } from '@ledgerman/contract'
import { parametersOf } from '../values/expression/expression.js'
import { parseExpression } from '../values/expression/parse.js'
import type { NamedFind } from '../statement/named-find.js'
import { followLinks, type FindMappingByName } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import { definitionProblem, type DefinitionFinding } from '../mapping/resolve-mapping.js'
import { buildFind } from '../statement/build-find.js'
import { parseOrder } from '../statement/order.js'
import type { Target } from '../target/target.js'
import { checkPrepared } from '../target/check-prepared.js'
import type { Param } from './plan.js'
import { resolveParams, typeOfParam } from './resolve-params.js'
import { findTypes } from './resolve-plan.js'
import { Sources } from './sources.js'

/** A find that a mapping names, with its parameters typed. */
export interface ResolvedFind extends NamedFind {
  params: ReadonlyMap<string, Param>
}

const resolved = new WeakMap<Mapping, Map<string, { find: ResolvedFind; sources: Sources }>>()

/**
 * The find of that name.
 *
 * @throws LedgermanProblem not-found; definition-invalid where it does not fit.
 */
export async function namedFind(
  target: Target,
  mapping: Mapping,
  name: string,
  findMapping: FindMappingByName,
): Promise<ResolvedFind> {
  const { finds = {} } = mapping.definition
  const definition = Object.hasOwn(finds, name) ? finds[name] : undefined
  if (!definition)
    throw new LedgermanProblem(
      'not-found',
      `${mapping.name} has no find ${name}. ${suggestName(name, Object.keys(finds))}`,
      { mapping: mapping.name, where: 'find' },
    )
  let known = resolved.get(mapping)
  if (!known) resolved.set(mapping, (known = new Map()))
  const kept = known.get(name)
  if (kept && (await kept.sources.areCurrent(findMapping))) return kept.find
  const findings: DefinitionFinding[] = []
  const sources = new Sources(target, findMapping)
  const find = await resolveFind(sources, mapping, name, definition, findings)
  if (!find || findings.length > 0) throw definitionProblem(mapping.name, findings)
  known.set(name, { find, sources })
  return find
}

/** All that a mapping names, in its order. @throws LedgermanProblem definition-invalid */
export async function namedFinds(target: Target, mapping: Mapping, findMapping: FindMappingByName) {
  const names = Object.keys(mapping.definition.finds ?? {})
  const all: ResolvedFind[] = []
  for (const name of names) all.push(await namedFind(target, mapping, name, findMapping))
  return all
}

/**
 * What of a mapping's finds does not fit: names first, then types, as PostgreSQL prepares each.
 *
 * @param isLenient whether a link may lead to a mapping that is still to be published: such a find is looked at when it is asked for.
 */
export async function checkFinds(
  target: Target,
  mapping: Mapping,
  findMapping: FindMappingByName,
  isLenient = false,
): Promise<DefinitionFinding[]> {
  const findings: DefinitionFinding[] = []
  const built = []
  for (const [name, definition] of Object.entries(mapping.definition.finds ?? {})) {
    const own: DefinitionFinding[] = []
    const find = await resolveFind(new Sources(target, findMapping), mapping, name, definition, own)
    findings.push(...own.filter(({ leadsNowhere }) => !isLenient || !leadsNowhere))
    if (find) built.push({ where: `finds.${name}`, mapping, statement: statementOf(mapping, find) })
  }
  return findings.length > 0 ? findings : checkPrepared(target, built)
}

function statementOf(mapping: Mapping, { where, order, links, types }: ResolvedFind) {
  const shape = { where, order, properties: null, guarded: true, parameters: types }
  return buildFind(mapping, shape, links, 'start').statement
}

async function resolveFind(
  sources: Sources,
  mapping: Mapping,
  name: string,
  definition: FindDefinition,
  findings: DefinitionFinding[],
): Promise<ResolvedFind | undefined> {
  const at = `finds.${name}`
  const types = await findTypes(sources, definition)
  const wrong: DefinitionFinding[] = []
  const params = resolveParams(definition, types, wrong)
  findings.push(...wrong.map(({ where, message }) => ({ where: `${at}.${where}`, message })))
  try {
    const expression = parseExpression(definition.where)
    const where = { label: `${at}.where`, source: definition.where, expression }
    const order = parseOrder(definition.order ?? '')
    // One of a type that is not there is told once.
    const parameters = new Map(
      Object.keys(definition.params ?? {}).map((key) => {
        const type = params.get(key)?.type
        return [key, type ? typeOfParam(type) : undefined]
      }),
    )
    const paths = order.map(({ path }) => path)
    const links = await followLinks(mapping, [expression], paths, sources.mapping)
    const find = { name, definition, where, order, params, types: parameters, links }
    statementOf(mapping, find)
    const named = parametersOf(expression)
    for (const param of params.keys())
      if (!named.has(param))
        findings.push({ where: `${at}.params.${param}`, message: 'the expression does not name this parameter' })
    return wrong.length > 0 ? undefined : find
  } catch (error) {
    if (!(error instanceof LedgermanProblem)) throw error
    const part = isProblem(error, 'request-invalid') ? 'order' : 'where'
    const leadsNowhere = isProblem(error, 'definition-invalid')
    findings.push({
      where: `${at}.${part}`,
      message: error.detail.replace(/^order: /, ''),
      ...(leadsNowhere ? { leadsNowhere } : {}),
    })
    return undefined
  }
}
