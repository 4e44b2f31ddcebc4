import type { Node, Tree } from 'web-tree-sitter'
import type { Bound, Execution, FunctionFacts, Part, Place } from './facts.js'
import type { SourceLanguage } from './grammar.js'
import { calledOf, placeOf, textOf, type Scope } from './text-of.js'
import { boundOf } from './bound-values.js'
import { isStatementOf, looksLikeSql } from './looks-like-sql.js'
import { callsEach, namesOfRounds } from './loops.js'
import { armOf, endsPath, type Arm } from './paths.js'

const FUNCTIONS = new Set([
  'function_declaration',
  'function_expression',
  'arrow_function',
  'method_definition',
  'generator_function_declaration',
  'function_definition',
  'method_declaration',
  'constructor_declaration',
  'local_function_statement',
  'lambda_expression',
  'anonymous_function',
  'anonymous_function_creation_expression',
  'lambda',
])
const LOOPS =
  /^(for_statement|for_in_statement|while_statement|do_statement|enhanced_for_statement|foreach_statement|for_each_statement)$/
const CALLS = new Set([
  'call',
  'call_expression',
  'method_invocation',
  'invocation_expression',
  'function_call_expression',
  'member_call_expression',
  'nullsafe_member_call_expression',
  'scoped_call_expression',
  'object_creation_expression',
  'new_expression',
])
const ASSIGNMENTS = new Set([
  'assignment',
  'augmented_assignment',
  'assignment_expression',
  'augmented_assignment_expression',
  'variable_declarator',
  'const_element',
  'property_element',
  'public_field_definition',
  'field_definition',
])

/** Calls that run or prepare the statement in their first text. */
const RUNNING =
  /^(execute|executemany|executescript|query|queryOne|queryAll|queryRow|queryForObject|queryForList|queryForMap|update|batchUpdate|prepare|prepareStatement|prepareCall|createStatement|executeQuery|executeUpdate|executeLargeUpdate|exec|run|all|get|each|any|one|none|many|oneOrNone|manyOrNone|fetch|fetchrow|fetchval|fetchone|fetchall|pg_query|pg_query_params|pg_prepare|pg_send_query|pg_send_query_params|mysqli_query|unsafe|raw|sql|text|createQuery|createNativeQuery|createNamedQuery|fetch_all|fetch_row|fetchAll|fetchOne|fetchColumn|fetchAssoc|fetchAssociative|executeStatement|select|insert|delete|statement|affectingStatement|NpgsqlCommand|SqlCommand|OdbcCommand|OleDbCommand|CreateCommand|ExecuteAsync|Execute|ExecuteScalar|ExecuteScalarAsync|ExecuteNonQuery|ExecuteNonQueryAsync|ExecuteReader|ExecuteReaderAsync|Query|QueryAsync|QueryFirst|QueryFirstAsync|QueryFirstOrDefault|QueryFirstOrDefaultAsync|QuerySingle|QuerySingleAsync|QuerySingleOrDefault|QuerySingleOrDefaultAsync|ExecuteSqlRaw|ExecuteSqlRawAsync|FromSqlRaw|cursor|mogrify|copy_expert|read_sql|read_sql_query)$/

/** Reads what a file runs, and what its functions do beside it. */
export function readExecutions(
  tree: Tree,
  language: SourceLanguage,
): { executions: Execution[]; functions: FunctionFacts[] } {
  const reader = new Reader(language)
  reader.visit(tree.rootNode, {
    fn: null,
    scope: new Map(),
    loop: null,
    roundNames: null,
    arms: [],
    isInFinally: false,
    isInWith: false,
  })
  return { executions: reader.executions, functions: reader.functions }
}

/** How deep a program may be nested: what goes deeper was not written by a person. */
const DEEPEST = 1_500

interface Context {
  fn: FunctionFacts | null
  scope: Scope
  loop: number | null
  roundNames: ReadonlySet<string> | null
  arms: readonly Arm[]
  isInFinally: boolean
  isInWith: boolean
}

/** A statement that was given a name, or stands in a variable: what is bound to it later belongs to it. */
type Handles = Map<string, Execution>

class Reader {
  readonly executions: Execution[] = []
  readonly functions: FunctionFacts[] = []
  readonly #handles = new WeakMap<Scope, Handles>()
  readonly #seen = new Set<number>()

  constructor(readonly language: SourceLanguage) {}

  visit(node: Node, context: Context, depth = 0): void {
    if (depth > DEEPEST) return
    let now = context
    if (FUNCTIONS.has(node.type)) now = this.#enter(node, context)
    else if (LOOPS.test(node.type))
      now = { ...context, loop: node.startIndex, roundNames: namesOfRounds(node, context.roundNames) }
    else if (node.type === 'finally_clause' || node.type === 'finally_block') now = { ...context, isInFinally: true }
    else if (
      /^(with_statement|with_item|using_statement|try_with_resources_statement|resource|resource_specification)$/.test(
        node.type,
      ) ||
      /^\s*(await\s+)?using\s/.test(node.text.slice(0, 20))
    )
      now = { ...context, isInWith: true }
    if (/^try_/.test(node.type) && now.fn) now.fn.hasTry = true
    if (ASSIGNMENTS.has(node.type)) this.#assign(node, now)
    if (CALLS.has(node.type)) this.#call(node, now)
    for (const child of node.namedChildren) {
      if (!child) continue
      const arm = armOf(node, child)
      this.visit(child, arm ? { ...now, arms: [...now.arms, arm] } : now, depth + 1)
    }
  }

  #enter(node: Node, context: Context): Context {
    const name = node.childForFieldName('name')?.text ?? node.parent?.childForFieldName('name')?.text ?? 'anonymous'
    // A short function inside another is part of what that one does.
    const isInner =
      context.fn !== null &&
      /^(arrow_function|lambda|lambda_expression|anonymous_function|anonymous_function_creation_expression|function_expression)$/.test(
        node.type,
      )
    const scope: Scope = new Map(context.scope)
    if (isInner && callsEach(node)) return { ...context, scope, loop: node.startIndex, roundNames: null }
    if (isInner) return { ...context, scope }
    const fn: FunctionFacts = {
      name,
      place: placeOf(node),
      text: node.text.slice(0, 100_000),
      executions: [],
      calls: [],
      hasTry: false,
    }
    this.functions.push(fn)
    return { fn, scope, loop: null, roundNames: null, arms: [], isInFinally: false, isInWith: false }
  }

  #assign(node: Node, context: Context): void {
    const { scope } = context
    const target = node.childForFieldName('left') ?? node.childForFieldName('name') ?? node.namedChildren[0]
    const value = node.childForFieldName('right') ?? node.childForFieldName('value') ?? node.namedChildren.at(-1)
    if (!target || !value || target.id === value.id) return
    const name = target.text
    const text = textOf(value.type === 'equals_value_clause' ? (value.namedChildren[0] ?? value) : value, scope)
    const operator =
      node.childForFieldName('operator')?.text ??
      node.children.find((child) => child && /^[+.]?=$/.test(child.text))?.text ??
      '='
    if (operator === '+=' || operator === '.=') {
      const before = scope.get(name)
      if (before)
        scope.set(name, [
          ...before,
          ...(text ?? [{ value: value.text, how: 'concatenation' as const, place: placeOf(value) }]),
        ])
      return
    }
    if (text) scope.set(name, text)
    else scope.delete(name)
    // C#: cmd.CommandText = …
    if (text && /\.CommandText$/.test(name) && looksLikeSql(text)) {
      const execution = this.#add(
        text,
        placeOf(value),
        { kind: 'none' },
        'CommandText',
        name.replace(/\.CommandText$/, ''),
        true,
        context,
        value.startIndex,
      )
      this.#handlesOf(scope).set(name.replace(/\.CommandText$/, ''), execution)
    }
  }

  #handlesOf(scope: Scope): Handles {
    let handles = this.#handles.get(scope)
    if (!handles) this.#handles.set(scope, (handles = new Map()))
    return handles
  }

  #call(node: Node, context: Context): void {
    const { name: full, receiver, args } = calledOf(node)
    const name = full.split(/\.|::|->|\\/).at(-1) ?? full
    const receiverText = receiver?.text ?? ''
    const { fn, scope } = context
    fn?.calls.push({
      name,
      receiver: receiverText,
      at: node.startIndex,
      isInFinally: context.isInFinally,
      isInWith: context.isInWith,
      argument: args[0]?.text.slice(0, 200) ?? '',
    })
    this.#bindLater(name, receiverText, args, scope, node)
    if (!RUNNING.test(name)) return
    // pg_query and the like have the connection first; an object can hold text and values.
    const at = args.findIndex((arg) => {
      const text = textOf(arg, scope)
      return text !== undefined && isStatementOf(name, text)
    })
    const asObject = at < 0 ? objectArgument(args[0], scope) : undefined
    const text = asObject?.text ?? (at >= 0 && args[at] ? textOf(args[at], scope) : undefined)
    if (!text || this.#seen.has(node.startIndex)) return
    this.#seen.add(node.startIndex)
    const bound = asObject?.bound ?? boundOf(args.slice(at + 1), name, this.language)
    const place = placeOf(asObject?.node ?? (args[at] as Node))
    const execution = this.#add(text, place, bound, name, receiverText, isUsed(node), context, node.startIndex)
    execution.endsPath = endsPath(node)
    const handle = assignedTo(node)
    if (handle) this.#handlesOf(scope).set(handle, execution)
  }

  /** Values that are bound after a statement was prepared: by setters, `bindValue`, or the call that runs it. */
  #bindLater(name: string, receiver: string, args: readonly Node[], scope: Scope, node: Node): void {
    const execution = this.#handlesOf(scope).get(receiver.replace(/\.Parameters$/, ''))
    if (!execution) return
    const setter = /^set[A-Z]\w*$/.test(name) && args.length >= 2
    const binder = /^(bindValue|bindParam|bind_param|AddWithValue|Add)$/.test(name)
    if (setter || binder) {
      // In PHP they may stand in branches and loops: what is bound in the end is not known.
      if (this.language === 'php') return void (execution.bound = { kind: 'unknown' })
      const which = args[0]?.text ?? ''
      const number = /^\d+$/.test(which)
      if (number) addPosition(execution, which, args[1]?.text ?? '')
      else addName(execution, which.replace(/^["'`]?[:@]?|["'`]$/g, ''), placeOf(node))
      return
    }
    if (
      /^(execute|executeUpdate|executeQuery|executeLargeUpdate|ExecuteNonQuery|ExecuteNonQueryAsync|ExecuteScalar|ExecuteReader|ExecuteReaderAsync|run|all|get)$/.test(
        name,
      )
    ) {
      if (args.length > 0) execution.bound = boundOf(args, name, this.language)
      execution.isResultUsed = isUsed(node)
      execution.endsPath ||= endsPath(node)
    }
  }

  #add(
    parts: Part[],
    place: Place,
    bound: Bound,
    method: string,
    receiver: string,
    isResultUsed: boolean,
    { fn, loop, roundNames, arms }: Pick<Context, 'fn' | 'loop' | 'roundNames' | 'arms'>,
    at: number,
  ): Execution {
    const execution: Execution = {
      language: this.language,
      place,
      parts,
      bound,
      method,
      receiver,
      isResultUsed,
      loop,
      roundNames,
      arms,
      endsPath: false,
      at,
      fn,
    }
    this.executions.push(execution)
    fn?.executions.push(execution)
    return execution
  }
}

function addPosition(execution: Execution, which: string, value: string): void {
  if (execution.bound.kind !== 'positional')
    execution.bound = { kind: 'positional', values: [], place: execution.place }
  execution.bound.values[Number(which) - 1] = value
}

function addName(execution: Execution, name: string, place: Place): void {
  if (execution.bound.kind !== 'named') execution.bound = { kind: 'named', names: [], place }
  if (!execution.bound.names.includes(name)) execution.bound.names.push(name)
}

/** The variable that a call's result goes into. */
function assignedTo(node: Node): string | undefined {
  let at: Node | null = node.parent
  for (let depth = 0; at && depth < 4; depth++, at = at.parent) {
    if (ASSIGNMENTS.has(at.type) || at.type === 'resource' || at.type === 'with_item' || at.type === 'as_pattern')
      return (at.childForFieldName('left') ?? at.childForFieldName('name') ?? at.namedChildren[0])?.text
    if (!/^(await_expression|parenthesized_expression|equals_value_clause|cast_expression)$/.test(at.type))
      return undefined
  }
  return undefined
}

/** Whether the value of a call goes anywhere. */
function isUsed(node: Node): boolean {
  let at: Node | null = node.parent
  let from: Node = node
  for (; at; from = at, at = at.parent) {
    if (/^(await_expression|parenthesized_expression)$/.test(at.type)) continue
    // `.then(() => …)` goes on without looking at it.
    if (at.type === 'member_expression' && /\.then$/.test(at.text)) {
      const [next] = at.parent ? calledOf(at.parent).args : []
      if (next?.type === 'arrow_function' && /^(async\s*)?\(\s*\)/.test(next.text)) return false
    }
    if (at.type === 'arrow_function' && at.childForFieldName('body')?.id === from.id) return true
    return !/^(expression_statement|program|module|block|statement_block)$/.test(at.type)
  }
  return false
}

/** `{ text, values }`, as some drivers take a statement. */
function objectArgument(node: Node | undefined, scope: Scope): { text: Part[]; bound: Bound; node: Node } | undefined {
  if (node?.type !== 'object') return undefined
  const pairs = node.namedChildren.filter((child): child is Node => child?.type === 'pair')
  const valueOf = (name: RegExp) =>
    pairs.find((pair) => name.test(pair.childForFieldName('key')?.text ?? ''))?.childForFieldName('value')
  const source = valueOf(/^['"]?(text|sql|query)['"]?$/)
  const text = source && textOf(source, scope)
  if (!source || !text || !looksLikeSql(text)) return undefined
  const values = valueOf(/^['"]?(values|params|bind|replacements)['"]?$/)
  const isShort = node.namedChildren.some((child) => child?.type === 'shorthand_property_identifier')
  return {
    text,
    bound: values ? boundOf([values], 'query', 'typescript') : isShort ? { kind: 'unknown' } : { kind: 'none' },
    node: source,
  }
}
