import type { ReviewedStatement } from '@ledgerman/contract'
import { parseStatements, type SqlNode, type StatementFacts } from './sql/statement-facts.js'

/** A mapping as far as an adopted statement needs it. */
export interface AdoptingMapping {
  name: string
  /** Such as `public.programme`. */
  table: string
  key: readonly string[]
  guard: { by: string; property?: string | undefined }
  properties: readonly { name: string; column: string }[]
}

/** A transaction as its file says it. */
export interface AdoptedTransaction {
  transaction: string
  summary: string
  params?: Record<string, { type: string; nullable?: boolean }>
  steps: Record<string, unknown>[]
}

/**
 * Makes a transaction of the statements of one function: each a step on a mapping where it is one that can be said so, and as it stands elsewhere. Parameters
 * are named as the program names their values, else by their columns. `loadSqlGrammar` has to have been awaited.
 *
 * @param statements in the order in which they run, with their types
 * @returns undefined where none of them writes
 */
export function adoptStatements(
  name: string,
  statements: readonly ReviewedStatement[],
  mappings: readonly AdoptingMapping[],
): AdoptedTransaction | undefined {
  const params = new Map<string, string>()
  const writing = statements.filter(({ kind }) => ['update', 'delete', 'insert'].includes(kind))
  if (writing.length === 0) return undefined
  const steps = writing.map((statement) => {
    const names = namesOf(statement, params)
    return stepOf(statement, names, mappings, params) ?? rawStep(statement, names)
  })
  const first = writing[0] as ReviewedStatement
  return {
    transaction: name,
    summary: `As ${first.path} did it, from line ${first.line} on.`,
    ...(params.size > 0 ? { params: Object.fromEntries([...params].map(([param, type]) => [param, { type }])) } : {}),
    steps,
  }
}

/** The parameter that each $n becomes. One name stands for one value: the same name of the same type is the same. */
function namesOf({ params }: ReviewedStatement, taken: Map<string, string>): Map<number, string> {
  return new Map(
    params.map(({ name, type }, at) => {
      const plain = camel(name.replace(/^\$(\d+)$/, 'value_$1'))
      let free = plain
      for (let number = 2; taken.has(free) && taken.get(free) !== (type ?? 'text'); number++) free = `${plain}${number}`
      taken.set(free, type ?? 'text')
      return [at + 1, free] as const
    }),
  )
}

/** A step on a mapping; undefined where the statement says more than one can. */
function stepOf(
  { text, key }: ReviewedStatement,
  names: ReadonlyMap<number, string>,
  mappings: readonly AdoptingMapping[],
  params: Map<string, string>,
): Record<string, unknown> | undefined {
  const parsed = parseStatements(text)
  const facts = 'statements' in parsed ? parsed.statements[0] : undefined
  const target = facts?.target
  if (!facts || !target || facts.tables.length > 1 || facts.hasReturning) return undefined
  // Of several the widest: the others are forms for one purpose.
  const [mapping] = mappings
    .filter(({ table }) => table === `${target.schema ?? 'public'}.${target.name}`)
    .sort((one, other) => other.properties.length - one.properties.length)
  if (!mapping) return undefined
  const writer = new ExpressionWriter(mapping, names)
  if (facts.kind === 'insert') return insertStep(facts, mapping, writer)
  const values = facts.kind === 'update' ? assignments(facts, writer) : {}
  const guard = mapping.guard.by === 'version' ? mapping.guard.property : undefined
  // What counts the version on, and compares it, is the guard's own work.
  const guardColumn = mapping.properties.find(({ name }) => name === guard)?.column
  if (values && guard !== undefined) delete values[guard]
  const compared = facts.equalities.find(({ column }) => column === guardColumn)
  const finder = finderOf(facts, key, writer, guardColumn)
  if (!values || !finder) return undefined
  const guardName = compared?.parameter === null || compared === undefined ? undefined : names.get(compared.parameter)
  // A guard is what a load gave, such as v3.
  if (guardName !== undefined) params.set(guardName, 'text')
  return {
    [facts.kind === 'update' ? 'change' : 'remove']: mapping.name,
    ...finder,
    ...(guardName === undefined ? {} : { guard: `:${guardName}` }),
    ...(facts.kind === 'update' ? { compute: values } : {}),
  }
}

function insertStep(
  facts: StatementFacts,
  mapping: AdoptingMapping,
  writer: ExpressionWriter,
): Record<string, unknown> | undefined {
  const select = (facts.node['selectStmt'] as SqlNode | undefined)?.['SelectStmt'] as SqlNode | undefined
  const [row, ...others] = (select?.['valuesLists'] ?? []) as { List?: { items?: SqlNode[] } }[]
  const items = row?.List?.items
  if (
    !items ||
    others.length > 0 ||
    facts.assigned.length !== items.length ||
    facts.node['onConflictClause'] !== undefined
  )
    return undefined
  const compute: Record<string, string> = {}
  for (const [at, { column }] of facts.assigned.entries()) {
    const property = writer.propertyOf(column)
    const value = writer.write(items[at])
    if (property === undefined || value === undefined) return undefined
    compute[property] = value
  }
  return { add: mapping.name, compute }
}

function assignments(facts: StatementFacts, writer: ExpressionWriter): Record<string, string> | undefined {
  const compute: Record<string, string> = {}
  for (const { ResTarget } of (facts.node['targetList'] ?? []) as { ResTarget?: SqlNode }[]) {
    const property = writer.propertyOf(String(ResTarget?.['name']))
    const value = writer.write(ResTarget?.['val'] as SqlNode | undefined)
    if (property === undefined || value === undefined) return undefined
    compute[property] = value
  }
  return compute
}

/** By key where the condition covers the mapping's, or another that is unique; else by the condition, with any count. */
function finderOf(
  facts: StatementFacts,
  key: readonly string[] | null,
  writer: ExpressionWriter,
  guardColumn: string | undefined,
): Record<string, unknown> | undefined {
  const own = facts.equalities.filter(({ column }) => column !== guardColumn)
  const isKeyed =
    key !== null && !facts.hasOther && own.length === key.length && own.every(({ column }) => key.includes(column))
  if (isKeyed) {
    const parts = own.map(
      ({ column, parameter, literal }) =>
        [writer.propertyOf(column), parameter === null ? literal : writer.parameter(parameter)] as const,
    )
    return parts.every(([property, value]) => property !== undefined && value !== null && value !== undefined)
      ? { key: Object.fromEntries(parts) }
      : undefined
  }
  const where = facts.where ? writer.write(facts.where) : undefined
  // A key with more beside it finds one, or none.
  return where === undefined ? undefined : { where, expect: key === null ? 'any' : 'one' }
}

/** The statement as it stands, with named parameters. */
function rawStep({ text, key }: ReviewedStatement, names: ReadonlyMap<number, string>): Record<string, unknown> {
  return {
    sql: text.replace(/\$(\d+)/g, (_, number: string) => `:${names.get(Number(number)) ?? `value${number}`}`),
    changes: true,
    expect: key === null ? 'any' : 'one',
  }
}

const OPERATORS = new Set(['+', '-', '*', '/', '=', '<>', '<', '>', '<=', '>=', '||'])
const DEEPEST = 50

/** Writes PostgreSQL's expressions in the words of a mapping. */
class ExpressionWriter {
  constructor(
    readonly mapping: AdoptingMapping,
    readonly names: ReadonlyMap<number, string>,
  ) {}

  propertyOf(column: string): string | undefined {
    return this.mapping.properties.find((property) => property.column === column)?.name
  }

  parameter(number: number): string | undefined {
    const name = this.names.get(number)
    return name === undefined ? undefined : `:${name}`
  }

  /** Undefined where the language of definitions has no such thing. */
  write(node: SqlNode | undefined, depth = 0): string | undefined {
    if (!node || depth > DEEPEST) return undefined
    const param = node['ParamRef'] as SqlNode | undefined
    if (param) return this.parameter(Number(param['number']))
    const column = node['ColumnRef'] as SqlNode | undefined
    if (column) {
      const fields = (column['fields'] ?? []) as { String?: { sval?: string } }[]
      return this.propertyOf(fields.at(-1)?.String?.sval ?? '')
    }
    const constant = node['A_Const'] as SqlNode | undefined
    if (constant) return constantText(constant)
    const test = node['NullTest'] as SqlNode | undefined
    if (test) {
      const arg = this.write(test['arg'] as SqlNode, depth + 1)
      return arg === undefined
        ? undefined
        : inside(`${arg} is ${test['nulltesttype'] === 'IS_NULL' ? '' : 'not '}null`, depth)
    }
    const bool = node['BoolExpr'] as SqlNode | undefined
    if (bool) {
      const args = ((bool['args'] ?? []) as SqlNode[]).map((arg) => this.write(arg, depth + 1))
      if (args.some((arg) => arg === undefined)) return undefined
      if (bool['boolop'] === 'NOT_EXPR') return inside(`not ${args[0]}`, depth)
      return inside(args.join(bool['boolop'] === 'AND_EXPR' ? ' and ' : ' or '), depth)
    }
    const expr = node['A_Expr'] as SqlNode | undefined
    return expr && this.#operation(expr, depth)
  }

  #operation(expr: SqlNode, depth: number): string | undefined {
    const operator = ((expr['name'] ?? []) as { String?: { sval?: string } }[]).at(-1)?.String?.sval ?? ''
    const left = this.write(expr['lexpr'] as SqlNode | undefined, depth + 1)
    const right = this.write(expr['rexpr'] as SqlNode | undefined, depth + 1)
    if (expr['kind'] !== 'AEXPR_OP' || !OPERATORS.has(operator) || left === undefined || right === undefined)
      return undefined
    return inside(`${left} ${operator} ${right}`, depth)
  }
}

/** A part of an expression stands in parentheses, whatever binds tighter. */
function inside(text: string, depth: number): string {
  return depth === 0 ? text : `(${text})`
}

function constantText(constant: SqlNode): string | undefined {
  if (constant['isnull'] === true) return 'null'
  const text = (constant['sval'] as SqlNode | undefined)?.['sval']
  if (typeof text === 'string') return `'${text.replaceAll("'", "''")}'`
  const whole = constant['ival'] as SqlNode | undefined
  if (whole !== undefined) return String(whole['ival'] ?? 0)
  const number = (constant['fval'] as SqlNode | undefined)?.['fval']
  if (typeof number === 'string') return number
  const bool = constant['boolval'] as SqlNode | undefined
  return bool === undefined ? undefined : String(bool['boolval'] === true)
}

function camel(name: string): string {
  const joined = name
    .replace(/(?<![^\p{L}\p{N}])[^\p{L}\p{N}]+(\p{L}|\p{N})/gu, (_, letter: string) => letter.toUpperCase())
    .replace(/[^\p{L}\p{N}_]/gu, '')
  return /^[\p{L}_]/u.test(joined) ? joined : `value${joined}`
}
