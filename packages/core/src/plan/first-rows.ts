import { isProblem, suggestName, type LoadStep } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import type { FirstRows } from '../statement/build-load-step.js'
import { parseOrder, type OrderTerm } from '../statement/order.js'
import type { DefinitionScope } from './definition-scope.js'

/** How many rows a load takes at most, and which are the first; null where it takes all. What is wrong with it is added to the findings. */
export function firstRows(
  { findings }: DefinitionScope,
  mapping: Mapping,
  { order, limit, where, expect }: Pick<LoadStep, 'order' | 'limit' | 'where' | 'expect'>,
  place: string,
): FirstRows | null {
  const find = (member: 'order' | 'limit' | 'expect', message: string) =>
    findings.push({ where: `${place}.${member}`, message })
  if (limit === undefined) {
    if (order !== undefined)
      find('order', 'it says which rows are the first; say with limit how many of them are taken')
    return null
  }
  if (where === undefined) find('limit', 'a key finds one row; limit goes with where')
  // A number, or the first of a range.
  const least = Number(/^\d+/.exec(String(expect ?? ''))?.[0] ?? 0)
  if (least > limit) find('expect', `it can never be ${least}: limit takes ${limit} at most`)
  const terms = readOrder(order ?? '', (message) => find('order', message))
  for (const { path } of terms) {
    const [name = '', ...others] = path
    if (others.length > 0) find('order', `${path.join('.')} follows a link; name properties of ${mapping.name} itself`)
    else if (!mapping.byName.has(name))
      find('order', `${name} is not a property of ${mapping.name}. ${suggestName(name, mapping.byName.keys())}`)
  }
  return { order: terms.filter(({ path }) => path.length === 1 && mapping.byName.has(path[0] ?? '')), limit }
}

function readOrder(text: string, find: (message: string) => void): OrderTerm[] {
  try {
    return parseOrder(text)
  } catch (error) {
    if (!isProblem(error)) throw error
    find(error.detail.replace(/^order: /, '').replace(/\.$/, ''))
    return []
  }
}
