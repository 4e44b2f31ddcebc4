import { LedgermanProblem, suggestName, type Json } from '@ledgerman/contract'
import { parametersOf } from '../expression/expression.js'
import { parameterText } from '../expression/parameter-value.js'
import { parseExpression } from '../expression/parse.js'
import { followLinks, type FindMappingByName, type Links } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import type { FindShape } from '../statement/build-find.js'
import type { Slot, SlotSource } from '../statement/statement.js'
import { parseOrder, parseProperties } from './order.js'

/** What a caller asks for: all in the words of the interface. */
export interface FindRequest {
  where?: string | undefined
  /** Values of the expression's parameters by name. */
  bind?: Record<string, Json> | undefined
  /** Such as `hoursLeft desc, code`. */
  order?: string | undefined
  /** Such as `code,lead.familyName`. */
  properties?: string | undefined
}

/** A request that was read, with every link resolved that it follows. */
export interface ReadFind {
  shape: FindShape
  links: Links
  bind: Record<string, Json>
}

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
  const { where: source, bind = {} } = request
  const expression = source === undefined || source.trim() === '' ? null : parseExpression(source)
  const where = expression && { label: 'where', source: source ?? '', expression }
  assertBound(expression ? parametersOf(expression) : new Set(), bind)
  const order = parseOrder(request.order ?? '')
  const properties = request.properties === undefined ? null : parseProperties(request.properties)
  const paths = [...order.map(({ path }) => path), ...(properties ?? [])]
  const links = await followLinks(mapping, expression ? [expression] : [], paths, findMapping)
  return { shape: { where, order, properties, guarded }, links, bind }
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
    const hint = named.size > 0 ? suggestName(name, named) : 'it names no parameters'
    throw new LedgermanProblem('request-invalid', `The expression does not name :${name}; ${hint}`, {
      where: `bind.${name}`,
      parameter: name,
    })
  }
}
