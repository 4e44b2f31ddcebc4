import { LedgermanProblem, suggestName, type Json } from '@ledgerman/contract'
import { literalShape, type LiteralShape } from './literal-shape.js'
import { parameterText } from '../../statement/parameter-value.js'
import { findValues, type NamedFind } from '../../statement/named-find.js'
import { followLinks, type FindMappingByName, type Links } from '../../mapping/links.js'
import type { Mapping } from '../../mapping/mapping.js'
import type { FindShape, FindStatement } from '../../statement/build-find.js'
import { conditionParameters, parseCondition } from '../../statement/condition.js'
import { Aliases, Joins } from '../../statement/joins.js'
import { conditionSql, type NamedExpression } from '../../statement/record-scope.js'
import { SlotList, type Slot, type SlotSource } from '../../statement/statement.js'
import { parseOrder, parseProperties } from '../../statement/order.js'

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
export interface ReadFind extends Pick<KnownFind, 'shape' | 'links' | 'built' | 'uses'> {
  bind: Record<string, Json>
  /** The literals of these words, by the places of those that the statement was built with; null where they are the same. */
  literals: ReadonlyMap<number, string> | null
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
  /** The expression that it was read from. */
  source: string | undefined
  /** The literals of which any others may stand in their places; null where the statement would be another. */
  literalsBuilt: LiteralShape['literals'] | null
}

/** How many requests of one mapping are kept at most, those asked for last. */
const MOST_KNOWN = 200

const knownFinds = new WeakMap<Mapping, Map<string, KnownFind>>()

/**
 * Reads what is asked for.
 *
 * @param asWritten whether it has to be these very words: elsewhere those may stand for them that differ in literals only
 * @throws LedgermanProblem expression-invalid, request-invalid (a parameter without a value, or a value nobody names)
 */
export async function readFindRequest(
  mapping: Mapping,
  request: FindRequest,
  guarded: boolean,
  findMapping: FindMappingByName,
  asWritten = true,
): Promise<ReadFind> {
  const { where, order, properties, named } = request
  const bind = named ? findValues(named, request.bind ?? {}) : (request.bind ?? {})
  let known = knownFinds.get(mapping)
  if (!known) knownFinds.set(mapping, (known = new Map()))
  const shaped = asWritten || named || where === undefined ? null : literalShape(where)
  const wordsOf = (text: string | undefined) => JSON.stringify([text, order, properties, guarded, named?.name])
  let words = wordsOf(shaped?.shape ?? where)
  if (shaped && known.get(words)?.literalsBuilt === null) words = wordsOf(where)
  let find = known.get(words)
  if (!find || find.shape.parameters !== named?.types || !(await leadsWhereItLed(mapping, find, findMapping))) {
    find = await readWords(mapping, request, guarded, findMapping, shaped)
    if (known.size >= MOST_KNOWN) known.delete(known.keys().next().value ?? '')
  }
  // Set again, so that what was asked for longest ago stands first.
  known.delete(words)
  known.set(words, find)
  find.uses++
  assertBound(find.parameters, bind)
  const literals =
    find.source === where || !find.literalsBuilt
      ? null
      : new Map(find.literalsBuilt.map(({ at }, number) => [at, shaped?.literals[number]?.text ?? '']))
  // Named one by one, since V8 takes longer to spread an object of this size than all the rest of this takes.
  return { shape: find.shape, links: find.links, built: find.built, uses: find.uses, bind, literals }
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
  shaped: LiteralShape | null,
): Promise<KnownFind> {
  const { where: source, named } = request
  const where = named?.where ?? parseCondition(source)
  const order = request.order === undefined && named ? named.order : parseOrder(request.order ?? '')
  const properties = request.properties === undefined ? null : parseProperties(request.properties)
  const shape = { where, order, properties, guarded, parameters: named?.types }
  const parameters = conditionParameters(where)
  const links = await linksOf(mapping, shape, findMapping)
  const literalsBuilt = where && shaped && areBound(mapping, where, links, shaped) ? shaped.literals : null
  return { shape, parameters, links, built: new Map(), uses: 0, source, literalsBuilt }
}

/** Whether each of the literals is bound as it is written, so that any other of its kind can be bound in its place. */
function areBound(mapping: Mapping, where: NamedExpression, links: Links, { literals }: LiteralShape): boolean {
  const slots = new SlotList()
  conditionSql(where, new Joins(mapping, 't', links, new Aliases()), slots)
  const bound = new Map(
    slots.slots.map(({ source }) => (source.from === 'literal' ? [source.at, source.text] : [-1, null])),
  )
  return literals.every(({ at, text }) => bound.get(at) === text)
}

/** The value of a slot that comes from the expression; undefined for any other. */
export function expressionValue(
  { bind, literals }: Pick<ReadFind, 'bind' | 'literals'>,
  source: SlotSource,
  slot?: Slot,
): string | null | undefined {
  if (source.from === 'literal') return literals?.get(source.at) ?? source.text
  if (source.from !== 'parameter') return undefined
  return parameterText(source, slot?.sensitive ?? false, bind[source.name] ?? null)
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
