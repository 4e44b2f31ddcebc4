import type { ValueType } from '../values/value-type.js'
import { findNearestName, suggestName, type Json, type TransactionDefinition } from '@ledgerman/contract'
import type { DefinitionFinding } from '../mapping/resolve-mapping.js'
import type { ColumnType } from '../values/column-type.js'
import { ValueError } from '../values/value-error.js'
import { valueToText } from '../values/value-text.js'
import type { Param } from './plan.js'

/** What the type of a parameter is called that takes the type of what it stands beside: as PostgreSQL calls it. */
const UNTYPED = 'unknown'

/** Resolves the parameters of a definition: each with its type, and the value it has where none is given. */
export function resolveParams(
  { params = {} }: Pick<TransactionDefinition, 'params'>,
  types: ReadonlyMap<string, ColumnType>,
  findings: DefinitionFinding[],
): Map<string, Param> {
  const resolved = new Map<string, Param>()
  for (const [name, param] of Object.entries(params)) {
    if (param.type === UNTYPED) {
      resolved.set(name, { name, type: null, nullable: true, default: undefined })
      continue
    }
    const type = types.get(param.type)
    if (!type) {
      findings.push({ where: `params.${name}.type`, message: unknownType(param.type) })
      // It is there all the same: what uses it is not wrong for that.
      resolved.set(name, { name, type: null, nullable: true, default: undefined })
      continue
    }
    const nullable = param.nullable ?? false
    const fallback = Object.hasOwn(param, 'default')
      ? textOf(param.default, type, `params.${name}.default`, findings)
      : nullable
        ? null
        : undefined
    resolved.set(name, { name, type, nullable, default: fallback })
  }
  return resolved
}

/** What types are called elsewhere. */
const MEANT: Readonly<Record<string, string>> = {
  string: 'text',
  str: 'text',
  number: 'numeric',
  long: 'bigint',
  double: 'double precision',
  datetime: 'timestamptz',
  object: 'jsonb',
  map: 'jsonb',
  array: 'text[]',
  list: 'text[]',
  blob: 'bytea',
  binary: 'bytea',
  guid: 'uuid',
}
const COMMON = 'text,integer,bigint,numeric,boolean,date,timestamp,timestamptz,interval,uuid,jsonb,bytea'.split(',')

function unknownType(type: string): string {
  const meant = Object.hasOwn(MEANT, type.toLowerCase()) ? MEANT[type.toLowerCase()] : findNearestName(type, COMMON)
  return `the target has no type ${type}.${meant === undefined ? '' : ` Did you mean ${meant}?`}`
}

/** Examples are run by forms, checks and drills, so each has to fit its parameters. */
export function checkExampleValues(
  { examples = [] }: Pick<TransactionDefinition, 'examples'>,
  params: ReadonlyMap<string, Param>,
  findings: DefinitionFinding[],
): void {
  examples.forEach((example, at) => {
    const where = `examples.${at + 1}`
    for (const [name, value] of Object.entries(example)) {
      const param = params.get(name)
      if (!param)
        findings.push({
          where: `${where}.${name}`,
          message: `there is no parameter ${name}. ${suggestName(name, params.keys())}`,
        })
      else if (param.type) textOf(value, param.type, `${where}.${name}`, findings)
    }
    for (const { name, default: fallback } of params.values())
      if (fallback === undefined && !Object.hasOwn(example, name))
        findings.push({ where, message: `the parameter ${name} is missing` })
  })
}

function textOf(value: unknown, type: ColumnType, where: string, findings: DefinitionFinding[]): string | null {
  try {
    return valueToText(value as Json, type)
  } catch (error) {
    if (!(error instanceof ValueError)) throw error
    findings.push({ where, message: `expected ${error.expected}` })
    return null
  }
}

/** The type an expression takes a parameter for. */
export function typeOfParam(type: ColumnType): ValueType {
  return { sql: type.sql, column: type, sensitive: false }
}
