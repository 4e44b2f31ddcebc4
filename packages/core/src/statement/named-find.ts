import type { ValueType } from '../values/value-type.js'
import { LedgermanProblem, suggestName, type FindDefinition, type Json } from '@ledgerman/contract'
import type { Links } from '../mapping/links.js'
import type { OrderTerm } from './order.js'
import type { NamedExpression } from './record-scope.js'

/** A find that a mapping names, with its parameters typed and its links resolved. */
export interface NamedFind {
  name: string
  definition: FindDefinition
  where: NamedExpression
  order: OrderTerm[]
  params: ReadonlyMap<string, FindParam>
  /** The types of the parameters, for the expression that names them. */
  types: ReadonlyMap<string, ValueType | undefined>
  links: Links
}

/** A parameter of it: `plan/resolve-find.ts` has its type too. */
export interface FindParam {
  name: string
  nullable: boolean
  /** The value where none is given; undefined where one has to be. */
  default: string | null | undefined
}

/**
 * The values of a find's parameters: those given, and the defaults of the others.
 *
 * @throws LedgermanProblem request-invalid where one is missing, or null that may not be, or nobody knows it.
 */
export function findValues({ name, params, definition }: NamedFind, given: Record<string, Json>): Record<string, Json> {
  const problem = (parameter: string, words: string) =>
    new LedgermanProblem('request-invalid', words, { where: `bind.${parameter}`, parameter })
  for (const parameter of Object.keys(given))
    if (!params.has(parameter)) {
      const hint = params.size > 0 ? suggestName(parameter, params.keys()) : 'It takes none.'
      throw problem(parameter, `${parameter} is not a parameter of the find ${name}. ${hint}`)
    }
  return Object.fromEntries(
    [...params.values()].map((param) => {
      const value = Object.hasOwn(given, param.name) ? (given[param.name] ?? null) : undefined
      if (value === undefined && param.default === undefined)
        throw problem(param.name, `The find ${name} needs a value for ${param.name}.`)
      if (value === null && !param.nullable)
        throw problem(param.name, `${param.name} of the find ${name} may not be null.`)
      return [param.name, value ?? ((definition.params?.[param.name]?.default ?? null) as Json)]
    }),
  )
}
