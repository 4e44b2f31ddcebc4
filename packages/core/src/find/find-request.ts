import { LedgermanProblem, suggestName, type Json } from '@ledgerman/contract'
import { parametersOf } from '../expression/expression.js'
import { parameterText } from '../expression/parameter-value.js'
import { parseExpression } from '../expression/parse.js'
import { findValues, type NamedFind } from '../statement/named-find.js'
import { followLinks, type FindMappingByName, type Links } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import type { FindShape, FindStatement } from '../statement/build-find.js'
import type { Slot, SlotSource } from '../statement/statement.js'
import { parseOrder, parseProperties } from '../statement/order.js'

/** What a caller asks for: all in the words of the interface. */
export interface FindRequest {
  where?: string | undefined
  /** A find that the mapping names, in place of an expression. */
  named?: NamedFind | undefined
  /** Values of the expression's parameters by name. */
  bind?: Record<string, Json> | undefined
  /** Such as `hoursLeft desc, code`. */
  order?: string | undefined
  /** Such as `code,lead.familyName`. */
  properties?: string | undefined
}

/** A request that was read, with every link resolved that it follows. */
export interface ReadFind extends KnownFind {
  bind: Record<string, Json>
}

/** What is the same for every request of the same words, whatever is bound. */
interface KnownFind {
  shape: FindShape
  links: Links
  /** The parameters that the expression names. */
  parameters: ReadonlySet<string>
  /** The statements built of it, by the kind of place that a page begins at. */
  built: Map<string, FindStatement>
  /** How often it was asked for. */
  uses: number
}

/** How many requests of one mapping are kept at most, those asked for last. */
const MOST_KNOWN = 200

const knownFinds = new WeakMap<Mapping, Map<string, KnownFind>>()

/**
 * Reads what is asked for.
 *
 * @throws LedgermanProblem expression-invalid, request-invalid (a parameter without a value, or a value nobody names)
 */
export async function readFindRequest(
  mapping: Mapping,
  request: FindRequest,
  guarded: boolean,
  findMapping: FindMappingByName,
): Promise<ReadFind> {
  const { where, order, properties, named } = request
  const bind = named ? findValues(named, request.bind ?? {}) : (request.bind ?? {})
  let known = knownFinds.get(mapping)
  if (!known) knownFinds.set(mapping, (known = new Map()))
  const words = JSON.stringify([where, order, properties, guarded, named?.name])
  let find = known.get(words)
  if (!find || !(await leadsWhereItLed(mapping, find, findMapping))) {
    find = await readWords(mapping, request, guarded, findMapping)
    if (known.size >= MOST_KNOWN) known.delete(known.keys().next().value ?? '')
  }
  // Set again, so that what was asked for longest ago stands first.
  known.delete(words)
  known.set(words, find)
  find.uses++
  assertBound(find.parameters, bind)
  return { ...find, bind }
}

async function leadsWhereItLed(mapping: Mapping, find: KnownFind, findMapping: FindMappingByName): Promise<boolean> {
  if (!mapping.definition.links) return true
  return find.links.leadWhere(await linksOf(mapping, find.shape, findMapping))
}

function linksOf(mapping: Mapping, { where, order, properties }: FindShape, findMapping: FindMappingByName) {
  const paths = [...order.map(({ path }) => path), ...(properties ?? [])]
  return followLinks(mapping, where ? [where.expression] : [], paths, findMapping)
}

async function readWords(
  mapping: Mapping,
  request: FindRequest,
  guarded: boolean,
  findMapping: FindMappingByName,
): Promise<KnownFind> {
  const { where: source, named } = request
  const expression = source === undefined || source.trim() === '' ? null : parseExpression(source)
  const where = named?.where ?? (expression && { label: 'where', source: source ?? '', expression })
  const order = request.order === undefined && named ? named.order : parseOrder(request.order ?? '')
  const properties = request.properties === undefined ? null : parseProperties(request.properties)
  const shape = { where, order, properties, guarded, parameters: named?.types }
  const parameters = where ? parametersOf(where.expression) : new Set<string>()
  return { shape, parameters, links: await linksOf(mapping, shape, findMapping), built: new Map(), uses: 0 }
}

/** The value of a slot that comes from the expression; undefined for any other. */
export function expressionValue(
  bind: Record<string, Json>,
  source: SlotSource,
  slot?: Slot,
): string | null | undefined {
  if (source.from === 'literal') return source.text
  if (source.from !== 'parameter') return undefined
  return parameterText({ ...source, sensitive: slot?.sensitive ?? false }, bind[source.name] ?? null)
}

function assertBound(named: ReadonlySet<string>, bind: Record<string, Json>): void {
  for (const name of named) {
    if (Object.hasOwn(bind, name)) continue
    throw new LedgermanProblem(
      'request-invalid',
      `The expression names :${name}, which has no value; bind one to it.`,
      {
        where: `bind.${name}`,
        parameter: name,
      },
    )
  }
  for (const name of Object.keys(bind)) {
    if (named.has(name)) continue
    const hint = named.size > 0 ? suggestName(name, named) : 'It names no parameters.'
    throw new LedgermanProblem('request-invalid', `The expression does not name :${name}. ${hint}`, {
      where: `bind.${name}`,
      parameter: name,
    })
  }
}
