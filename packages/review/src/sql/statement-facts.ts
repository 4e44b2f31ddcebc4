import { hasRunOfSigns } from '@ledgerman/contract'
import { PASTED_NAME } from './placeholders.js'
import { loadModule, parseSync } from 'libpg-query'

/** A node of PostgreSQL's parse tree, as JSON. */
export type SqlNode = { [member: string]: unknown }

export interface TableRef {
  schema: string | null
  name: string
  alias: string
  at: number
}

export interface ColumnUse {
  /** The qualifier, and the column. */
  table: string | null
  column: string
  at: number
}

/** One condition of those that are joined by AND, where it compares a column with one value. */
export interface Equality extends ColumnUse {
  /** A parameter's number; null for a literal or another expression. */
  parameter: number | null
  literal: string | null
  isCast: boolean
}

/** What one statement does, as far as its text says. */
export interface StatementFacts {
  kind: string
  node: SqlNode
  /** What it writes to. */
  target: TableRef | null
  tables: TableRef[]
  /** Tables of FROM, of joins and sub-selects, that are queries of its own: names that are none of the catalogue. */
  localNames: Set<string>
  where: SqlNode | null
  equalities: Equality[]
  /** Whether the condition has anything beside equalities. */
  hasOther: boolean
  isAlwaysTrue: boolean
  assigned: ColumnUse[]
  /** Columns that an UPDATE gives a value from outside, whatever they held. */
  overwritten: string[]
  columns: ColumnUse[]
  nullComparisons: { at: number; operator: string }[]
  notInNull: number[]
  notIn: ColumnUse[]
  castColumns: ColumnUse[]
  parameters: Set<number>
  hasReturning: boolean
  hasLimit: boolean
  locks: { at: number; waits: boolean } | null
  overridesIdentity: boolean
  isAggregate: boolean
  /** Changes and removals that are run as part of it: of WITH, and what PREPARE and EXPLAIN ANALYZE stand before. */
  inner: StatementFacts[]
}

export interface ParseProblem {
  message: string
  /** In characters, from 0. */
  at: number
}

let loading: Promise<void> | undefined
export function loadSqlGrammar(): Promise<void> {
  return (loading ??= loadModule())
}

/** Reads statements with PostgreSQL's own grammar. `loadSqlGrammar` has to have been awaited. */
export function parseStatements(text: string): { statements: StatementFacts[] } | { problem: ParseProblem } {
  if (hasRunOfSigns(text)) return { problem: { message: 'it has more than 63 signs in a row', at: 0 } }
  try {
    const { stmts = [] } = parseSync(text) as { stmts?: { stmt: SqlNode; stmt_location?: number }[] }
    return { statements: stmts.map(({ stmt }) => wrappedFactsOf(stmt)) }
  } catch (error) {
    const { message, sqlDetails } = error as { message: string; sqlDetails?: { cursorPosition?: number } }
    return { problem: { message, at: Math.max(0, sqlDetails?.cursorPosition ?? 0) } }
  }
}

const KINDS: Readonly<Record<string, string>> = {
  SelectStmt: 'select',
  InsertStmt: 'insert',
  UpdateStmt: 'update',
  DeleteStmt: 'delete',
  MergeStmt: 'merge',
  TransactionStmt: 'transaction',
  LockStmt: 'lock',
  TruncateStmt: 'truncate',
}

/** The facts of a statement, or of the one that it prepares or explains. */
function wrappedFactsOf(stmt: SqlNode): StatementFacts {
  const explained = stmt['ExplainStmt'] as SqlNode | undefined
  const prepared = stmt['PrepareStmt'] as SqlNode | undefined
  const query = (explained ?? prepared)?.['query'] as SqlNode | undefined
  if (!query) return factsOf(stmt)
  const facts = factsOf(query)
  const isRun = prepared !== undefined || analyzes(explained)
  return { ...facts, kind: explained ? 'explain' : 'prepare', inner: isRun ? [facts, ...facts.inner] : [] }
}

/** Whether EXPLAIN runs the statement: the last that is said of ANALYZE counts. */
function analyzes(explained: SqlNode | undefined): boolean {
  const options = (explained?.['options'] ?? []) as { DefElem?: SqlNode }[]
  const said = options.filter(({ DefElem }) => DefElem?.['defname'] === 'analyze').at(-1)?.DefElem
  if (!said) return false
  const { String: word, Integer: number } = (said['arg'] ?? {}) as {
    String?: { sval?: string }
    Integer?: { ival?: number }
  }
  if (number) return (number.ival ?? 0) !== 0
  return !['false', 'off', '0'].includes(word?.sval?.toLowerCase() ?? 'on')
}

/** @param isInner whether it is part of another, which collects what is run in it */
function factsOf(stmt: SqlNode, isInner = false): StatementFacts {
  const [type = '', node = {}] = (Object.entries(stmt)[0] ?? []) as [string, SqlNode]
  const facts: StatementFacts = {
    kind:
      KINDS[type] ??
      type
        .replace(/Stmt$/, '')
        .replace(/([a-z])([A-Z])/g, '$1 $2')
        .toLowerCase(),
    node,
    target: null,
    tables: [],
    localNames: new Set(),
    where: (node['whereClause'] as SqlNode | undefined) ?? null,
    equalities: [],
    hasOther: false,
    isAlwaysTrue: false,
    assigned: [],
    overwritten: [],
    columns: [],
    nullComparisons: [],
    notInNull: [],
    notIn: [],
    castColumns: [],
    parameters: new Set(),
    hasReturning: Array.isArray(node['returningList']) || node['returningClause'] !== undefined,
    hasLimit: node['limitCount'] !== undefined,
    locks: null,
    overridesIdentity: node['override'] === 'OVERRIDING_SYSTEM_VALUE',
    isAggregate: false,
    inner: [],
  }
  const relation = node['relation'] as SqlNode | undefined
  if (relation && facts.kind !== 'select') facts.target = tableRef(relation)
  for (const target of (node['targetList'] ?? node['cols'] ?? []) as { ResTarget?: SqlNode }[]) {
    const { ResTarget } = target
    if (facts.kind !== 'update' || !ResTarget?.['name']) continue
    const column = String(ResTarget['name'])
    facts.assigned.push({ table: null, column, at: Number(ResTarget['location'] ?? 0) })
    const value = JSON.stringify(ResTarget['val'] ?? {})
    const isOwn = value.includes(`"sval":${JSON.stringify(column)}`)
    if (!isOwn && (value.includes('"ParamRef"') || value.includes(PASTED_NAME))) facts.overwritten.push(column)
  }
  if (facts.kind === 'insert')
    for (const { ResTarget } of (node['cols'] ?? []) as { ResTarget?: SqlNode }[])
      if (ResTarget?.['name'])
        facts.assigned.push({ table: null, column: String(ResTarget['name']), at: Number(ResTarget['location'] ?? 0) })
  if (facts.kind === 'lock') facts.locks = { at: 0, waits: node['nowait'] !== true }
  walk(node, (name, inner) => visit(facts, name, inner, isInner))
  if (facts.where) conjuncts(facts, facts.where)
  facts.isAlwaysTrue = facts.where !== null && isTrue(facts.where)
  if (facts.target && !facts.tables.some(({ at }) => at === facts.target?.at)) facts.tables.unshift(facts.target)
  return facts
}

function walk(value: unknown, visitNode: (name: string, node: SqlNode) => void, depth = 0): void {
  if (depth > 200 || value === null || typeof value !== 'object') return
  if (Array.isArray(value)) {
    for (const each of value) walk(each, visitNode, depth + 1)
    return
  }
  for (const [name, inner] of Object.entries(value as SqlNode)) {
    if (inner !== null && typeof inner === 'object' && !Array.isArray(inner)) visitNode(name, inner as SqlNode)
    walk(inner, visitNode, depth + 1)
  }
}

function visit(facts: StatementFacts, name: string, node: SqlNode, isInner: boolean): void {
  switch (name) {
    case 'UpdateStmt':
    case 'DeleteStmt':
      if (!isInner) facts.inner.push(factsOf({ [name]: node }, true))
      break
    case 'RangeVar':
    case 'relation':
      if (typeof node['relname'] === 'string') facts.tables.push(tableRef(node))
      break
    case 'CommonTableExpr':
      facts.localNames.add(String(node['ctename']))
      break
    case 'RangeSubselect':
    case 'RangeFunction': {
      const alias = (node['alias'] as SqlNode | undefined)?.['aliasname']
      if (alias) facts.localNames.add(String(alias))
      break
    }
    case 'ColumnRef': {
      const use = columnUse(node)
      if (use) facts.columns.push(use)
      break
    }
    case 'ParamRef':
      facts.parameters.add(Number(node['number'] ?? 0))
      break
    case 'A_Expr': {
      const operator = operatorOf(node)
      const sides = [node['lexpr'], node['rexpr']] as (SqlNode | undefined)[]
      if (node['kind'] === 'AEXPR_OP' && sides.some(isNullConstant) && ['=', '<>', '!='].includes(operator))
        facts.nullComparisons.push({ at: Number(node['location'] ?? 0), operator })
      if (node['kind'] === 'AEXPR_IN' && operator === '<>') {
        const list = ((node['rexpr'] as SqlNode | undefined)?.['List'] as SqlNode | undefined)?.['items'] as
          SqlNode[] | undefined
        if (list?.some(isNullConstant)) facts.notInNull.push(Number(node['location'] ?? 0))
      }
      for (const side of sides) {
        const inner = (side?.['TypeCast'] as SqlNode | undefined)?.['arg'] as SqlNode | undefined
        const use = inner?.['ColumnRef'] ? columnUse(inner['ColumnRef'] as SqlNode) : undefined
        if (use) facts.castColumns.push(use)
      }
      break
    }
    case 'BoolExpr': {
      // NOT IN with a sub-select: true of nothing where the sub-select gives a null.
      const [arg] = (node['args'] ?? []) as SqlNode[]
      const link = arg?.['SubLink'] as SqlNode | undefined
      if (node['boolop'] === 'NOT_EXPR' && link?.['subLinkType'] === 'ANY_SUBLINK') {
        const select = (link['subselect'] as SqlNode | undefined)?.['SelectStmt'] as SqlNode | undefined
        const [first] = (select?.['targetList'] ?? []) as { ResTarget?: SqlNode }[]
        const column = (first?.ResTarget?.['val'] as SqlNode | undefined)?.['ColumnRef'] as SqlNode | undefined
        const use = column && columnUse(column)
        const isGuarded = JSON.stringify(select?.['whereClause'] ?? '').includes('IS_NOT_NULL')
        if (use && !isGuarded) {
          const [from] = (select?.['fromClause'] ?? []) as { RangeVar?: SqlNode }[]
          facts.notIn.push({ ...use, table: from?.RangeVar ? String(from.RangeVar['relname']) : null })
        }
      }
      break
    }
    case 'LockingClause':
      facts.locks = { at: 0, waits: node['waitPolicy'] === undefined || node['waitPolicy'] === 'LockWaitBlock' }
      break
    case 'FuncCall': {
      const names = ((node['funcname'] ?? []) as { String?: { sval?: string } }[]).map(
        (part) => part.String?.sval ?? '',
      )
      if (/^(count|sum|min|max|avg|array_agg|string_agg|jsonb?_agg|bool_and|bool_or)$/.test(names.at(-1) ?? ''))
        facts.isAggregate = true
      break
    }
  }
}

function tableRef(node: SqlNode): TableRef {
  const name = String(node['relname'] ?? '')
  const alias = (node['alias'] as SqlNode | undefined)?.['aliasname']
  return {
    schema: typeof node['schemaname'] === 'string' ? node['schemaname'] : null,
    name,
    alias: alias ? String(alias) : name,
    at: Number(node['location'] ?? 0),
  }
}

function columnUse(node: SqlNode): ColumnUse | undefined {
  const names = ((node['fields'] ?? []) as { String?: { sval?: string } }[]).map((part) => part.String?.sval)
  if (names.some((name) => name === undefined) || names.length === 0 || names.length > 2) return undefined
  return {
    table: names.length === 2 ? (names[0] ?? null) : null,
    column: names.at(-1) ?? '',
    at: Number(node['location'] ?? 0),
  }
}

function operatorOf(node: SqlNode): string {
  return ((node['name'] ?? []) as { String?: { sval?: string } }[]).at(-1)?.String?.sval ?? ''
}

function isNullConstant(node: SqlNode | undefined): boolean {
  return (node?.['A_Const'] as SqlNode | undefined)?.['isnull'] === true
}

/** The conditions that are joined by AND. */
function conjuncts(facts: StatementFacts, node: SqlNode): void {
  const bool = node['BoolExpr'] as SqlNode | undefined
  if (bool?.['boolop'] === 'AND_EXPR') {
    for (const arg of (bool['args'] ?? []) as SqlNode[]) conjuncts(facts, arg)
    return
  }
  const expr = node['A_Expr'] as SqlNode | undefined
  const operator = expr ? operatorOf(expr) : ''
  const isSimple = expr?.['kind'] === 'AEXPR_OP' && operator === '='
  const [left, right] = [expr?.['lexpr'], expr?.['rexpr']] as (SqlNode | undefined)[]
  const equality = isSimple ? (equalityOf(left, right) ?? equalityOf(right, left)) : undefined
  if (equality) facts.equalities.push(equality)
  else facts.hasOther = true
}

function equalityOf(column: SqlNode | undefined, value: SqlNode | undefined): Equality | undefined {
  const cast = (column?.['TypeCast'] as SqlNode | undefined)?.['arg'] as SqlNode | undefined
  const ref = (cast ?? column)?.['ColumnRef'] as SqlNode | undefined
  const use = ref && columnUse(ref)
  if (!use) return undefined
  const bare = ((value?.['TypeCast'] as SqlNode | undefined)?.['arg'] as SqlNode | undefined) ?? value
  const parameter = (bare?.['ParamRef'] as SqlNode | undefined)?.['number']
  const constant = bare?.['A_Const'] as SqlNode | undefined
  if (namesColumn(bare)) return undefined
  return {
    ...use,
    parameter: parameter === undefined ? null : Number(parameter),
    literal: constant ? literalOf(constant) : null,
    isCast: cast !== undefined,
  }
}

/** Whether a value depends on the row; what a select inside gives is one value for all of them. */
function namesColumn(node: unknown, depth = 0): boolean {
  if (node === null || typeof node !== 'object' || depth > DEEPEST_VALUE) return false
  return Object.entries(node).some(
    ([name, inner]) => name === 'ColumnRef' || (name !== 'SubLink' && namesColumn(inner, depth + 1)),
  )
}

const DEEPEST_VALUE = 500

function literalOf(constant: SqlNode): string | null {
  const text = (constant['sval'] as SqlNode | undefined)?.['sval']
  if (typeof text === 'string') return `'${text.replaceAll("'", "''")}'`
  const whole = constant['ival'] as SqlNode | undefined
  if (whole !== undefined) return String(whole['ival'] ?? 0)
  const number = (constant['fval'] as SqlNode | undefined)?.['fval']
  return typeof number === 'string' ? number : null
}

/** Conditions that leave nothing out whatever a row holds: `true`, `1 = 1`. */
function isTrue(node: SqlNode): boolean {
  const constant = node['A_Const'] as SqlNode | undefined
  const bool = constant?.['boolval'] as SqlNode | undefined
  if (bool) return bool['boolval'] === true
  const expr = node['A_Expr'] as SqlNode | undefined
  if (expr && operatorOf(expr) === '=') {
    const strip = (side: unknown) =>
      JSON.stringify(side, (name, value: unknown) => (name === 'location' ? undefined : value))
    const [left, right] = [expr['lexpr'] as SqlNode, expr['rexpr'] as SqlNode]
    return left?.['A_Const'] !== undefined && strip(left) === strip(right)
  }
  const parts = node['BoolExpr'] as SqlNode | undefined
  const args = (parts?.['args'] ?? []) as SqlNode[]
  if (parts?.['boolop'] === 'AND_EXPR') return args.every(isTrue)
  return parts?.['boolop'] === 'OR_EXPR' && args.some(isTrue)
}
