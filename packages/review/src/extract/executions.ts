import type { Node, Tree } from 'web-tree-sitter'
import { NAMELESS, type Bound, type Execution, type FunctionFacts, type Part, type Place, type Run } from './facts.js'
import type { SourceLanguage } from './grammar.js'
import { calledOf, textOf, type Scope } from './text-of.js'
import { boundOf, parameterOf } from './bound-values.js'
import { itemsOf, membersOf, withItem } from './lists.js'
import { isNumber, joined, numberKey, placeOf, valuePart } from './parts.js'
import { assignedTo, isDroppedAt, resultOf } from './results.js'
import { Source } from './own-source.js'
import { FUNCTIONS, nameOf, numbersAmong } from './functions.js'
import { CALLS, chainedRun, PREPARING, RUNNING, RUNS_PREPARED } from './running-calls.js'
import { marked, putTogether } from './put-together.js'
import { taggedText } from './tagged.js'
import { isStatementOf, looksLikeSql } from './looks-like-sql.js'
import { callsEach, namesOfRounds } from './loops.js'
import { armOf, Paths, type Arm } from './paths.js'

const LOOPS =
  /^(for_statement|for_in_statement|while_statement|do_statement|enhanced_for_statement|foreach_statement|for_each_statement)$/
/** Those that go through a list: what gives the list is asked once. */
const LOOPS_OVER_LISTS = /^(for_in_statement|enhanced_for_statement|foreach_statement|for_each_statement)$/
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

/** Reads what a file runs, and what its functions and the file itself do beside it. */
export function readExecutions(
  tree: Tree,
  language: SourceLanguage,
): { executions: Execution[]; functions: FunctionFacts[]; file: FunctionFacts } {
  const reader = new Reader(language, tree.rootNode)
  reader.visit(tree.rootNode, {
    fn: null,
    scope: new Map(),
    loop: null,
    roundNames: null,
    arms: [],
    isInFinally: false,
    isInWith: false,
    isInner: false,
  })
  reader.end()
  return { executions: reader.executions, functions: reader.functions, file: reader.file }
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
  /** Whether it stands in a short function inside another. */
  isInner: boolean
}

/** A statement that was given a name, or stands in a variable: what is bound to it later belongs to it. */
type Handles = Map<string, Execution>

class Reader {
  readonly executions: Execution[] = []
  readonly functions: FunctionFacts[] = []
  readonly file: FunctionFacts
  readonly #handles = new WeakMap<Scope, Handles>()
  readonly #seen = new Set<number>()
  /** Objects that variables hold, which may be a statement with its values. */
  readonly #objects = new WeakMap<Scope, Map<string, Node>>()
  readonly #source: Source
  readonly #paths = new Paths()

  constructor(
    readonly language: SourceLanguage,
    root: Node,
  ) {
    this.#source = new Source(root.text)
    this.file = this.#facts('This file', root, true)
  }

  visit(node: Node, context: Context, depth = 0): void {
    if (depth > DEEPEST) return
    this.#source.see(node)
    let now = context
    const isLoop = LOOPS.test(node.type)
    if (FUNCTIONS.has(node.type)) now = this.#enter(node, context)
    else if (isLoop) now = { ...context, loop: node.startIndex, roundNames: namesOfRounds(node, context.roundNames) }
    else if (node.type === 'finally_clause' || node.type === 'finally_block') now = { ...context, isInFinally: true }
    else if (
      /^(with_statement|with_item|using_statement|try_with_resources_statement|resource|resource_specification)$/.test(
        node.type,
      ) ||
      /^\s*(await\s+)?using\s/.test(node.text.slice(0, 20))
    )
      now = { ...context, isInWith: true }
    if (ASSIGNMENTS.has(node.type)) this.#assign(node, now)
    if (CALLS.has(node.type)) this.#call(node, now)
    if (node.type === 'return_statement' && now.fn && !now.isInner)
      now.fn.returns.push({ at: node.startIndex, end: node.endIndex, arms: now.arms, place: placeOf(node) })
    const isOverList = isLoop && (LOOPS_OVER_LISTS.test(node.type) || node.childForFieldName('right') !== null)
    const body = isOverList ? node.childForFieldName('body') : null
    for (const child of node.namedChildren) {
      if (!child) continue
      const arm = armOf(node, child)
      const inside = body && child.id !== body.id ? context : now
      this.visit(child, arm ? { ...inside, arms: [...inside.arms, arm] } : inside, depth + 1)
    }
  }

  /** To be called once all of the file was visited: only then it is known what of it is comments and texts. */
  end(): void {
    for (const fn of [...this.functions, this.file]) Object.assign(fn, this.#source.of(fn, this.functions))
  }

  #facts(name: string, node: Node, isFile: boolean): FunctionFacts {
    return {
      name,
      place: placeOf(node),
      isFile,
      from: node.startIndex,
      end: node.endIndex,
      text: '',
      code: '',
      executions: [],
      calls: [],
      returns: [],
    }
  }

  #enter(node: Node, context: Context): Context {
    const name = nameOf(node) ?? NAMELESS
    // A short function inside another is part of what that one does.
    const isInner =
      context.fn !== null &&
      /^(arrow_function|lambda|lambda_expression|anonymous_function|anonymous_function_creation_expression|function_expression)$/.test(
        node.type,
      )
    const scope: Scope = new Map(context.scope)
    this.#handles.set(scope, new Map(this.#handlesOf(context.scope)))
    this.#objects.set(scope, new Map(this.#objects.get(context.scope)))
    for (const name of numbersAmong(node, this.language)) scope.set(numberKey(name), [])
    if (isInner && callsEach(node)) return { ...context, scope, loop: node.startIndex, roundNames: null, isInner: true }
    if (isInner) return { ...context, scope, isInner: true }
    const fn = this.#facts(name, node, false)
    this.functions.push(fn)
    return { fn, scope, loop: null, roundNames: null, arms: [], isInFinally: false, isInWith: false, isInner: false }
  }

  #assign(node: Node, context: Context): void {
    const { scope } = context
    const target = node.childForFieldName('left') ?? node.childForFieldName('name') ?? node.namedChildren[0]
    const value = node.childForFieldName('right') ?? node.childForFieldName('value') ?? node.namedChildren.at(-1)
    if (!target || !value || target.id === value.id) return
    const name = target.text.replace(/^(this|self|cls|static|\$this)(\.|->|::)(?=\w+$)/, '')
    const plain = value.type === 'equals_value_clause' ? (value.namedChildren[0] ?? value) : value
    const read = (each: Node) => textOf(each, scope)
    const text = read(plain)
    const operator =
      node.childForFieldName('operator')?.text ??
      node.children.find((child) => child && /^[+.]?=$/.test(child.text))?.text ??
      '='
    // A text that a loop empties for its next round: what was put together before is what is run.
    if (text?.length === 0 && context.loop !== null && (scope.get(name)?.length ?? 0) > 0) return
    const added = text ?? [valuePart(plain, 'concatenation', scope)]
    // PHP: $list[] = …
    if (/\[\]$/.test(name)) {
      const items = scope.get(name)
      if (items) scope.set(name, withItem(items, marked(node, items, added)))
      return
    }
    if (operator === '+=' || operator === '.=') {
      const before = scope.get(name)
      if (before) scope.set(name, joined([...before, ...marked(node, before, added)]))
      return
    }
    for (const known of [name, `${name}[]`, `${name}{}`, numberKey(name)]) scope.delete(known)
    if (isNumber(plain.text, scope)) scope.set(numberKey(name), [])
    if (plain.type === 'object')
      this.#objects.set(scope, (this.#objects.get(scope) ?? new Map<string, Node>()).set(name, plain))
    if (text) scope.set(name, text)
    const items = itemsOf(plain, scope, read)
    if (items) scope.set(`${name}[]`, items)
    const members = membersOf(plain, read)
    for (const [key, member] of members ?? []) {
      scope.set(`${name}.${key}`, member)
      if (!scope.has(`${name}{}`)) scope.set(`${name}{}`, member)
    }
    // C#: cmd.CommandText = …
    if (text && /\.CommandText$/.test(name) && looksLikeSql(text)) {
      const execution = this.#add(
        text,
        placeOf(value),
        { kind: 'none' },
        'CommandText',
        name.replace(/\.CommandText$/, ''),
        context,
        value.startIndex,
      )
      this.#keep(execution, name.replace(/\.CommandText$/, ''), scope)
    }
  }

  #handlesOf(scope: Scope): Handles {
    let handles = this.#handles.get(scope)
    if (!handles) this.#handles.set(scope, (handles = new Map()))
    return handles
  }

  /** Holds a statement under the name of the variable that it is in. */
  #keep(execution: Execution, handle: string, scope: Scope): void {
    execution.handle = handle
    this.#handlesOf(scope).set(handle, execution)
  }

  #call(node: Node, context: Context): void {
    const called = calledOf(node)
    const { name: full, receiver, args } = called
    const name = full.split(/\.|::|->|\\/).at(-1) ?? full
    const receiverText = receiver?.text ?? ''
    const { scope } = context
    ;(context.fn ?? this.file).calls.push({
      name,
      receiver: receiverText,
      at: node.startIndex,
      arms: context.arms,
      isInFinally: context.isInFinally,
      isInWith: context.isInWith,
      argument: args[0]?.text.slice(0, 200) ?? '',
    })
    putTogether(node, called, scope)
    this.#bindLater(name, receiverText, args, context, node)
    const tagged = taggedText(node)
    if (!tagged && !RUNNING.test(name)) return
    if (this.#seen.has(node.startIndex)) return
    if (tagged) {
      if (!looksLikeSql(tagged.parts)) return
      this.#seen.add(node.startIndex)
      const place = placeOf(node.childForFieldName('arguments') ?? node)
      this.#add(tagged.parts, place, tagged.bound, 'query', '', context, node.startIndex).runs.push(
        this.#runOf(node, context),
      )
      return
    }
    // pg_query and the like have the connection first; an object can hold text and values.
    const at = args.findIndex((arg) => {
      const text = textOf(arg, scope)
      return text !== undefined && isStatementOf(name, text)
    })
    const given = args[0]?.type === 'identifier' ? this.#objects.get(scope)?.get(args[0].text) : args[0]
    const asObject = at < 0 ? objectArgument(given, scope) : undefined
    const text = asObject?.text ?? (at >= 0 && args[at] ? textOf(args[at], scope) : undefined)
    if (!text) return
    this.#seen.add(node.startIndex)
    // What is wrapped, as in execute(text('…'), values), is one statement and no other.
    if (at >= 0 && args[at] && CALLS.has(args[at].type)) this.#seen.add(args[at].startIndex)
    const source = asObject?.node ?? (args[at] as Node)
    const bound: Bound = PREPARING.test(name)
      ? { kind: 'none' }
      : (asObject?.bound ?? boundOf(args.slice(at + 1), name, this.language, text))
    const execution = this.#add(text, placeOf(source), bound, name, receiverText, context, node.startIndex)
    execution.endsPath = this.#paths.isEnded(node)
    const handle = assignedTo(node)
    if (handle) this.#keep(execution, handle, scope)
    if (!PREPARING.test(name)) execution.runs.push(this.#runOf(node, context))
    else {
      const run = chainedRun(node)
      if (run) this.#run(execution, run, calledOf(run).args, context)
    }
  }

  /** Values that are bound after a statement was prepared, by setters, `bindValue`, or the call that runs it. */
  #bindLater(name: string, receiver: string, args: readonly Node[], context: Context, node: Node): void {
    const execution = this.#handlesOf(context.scope).get(receiver.replace(/\.Parameters$/, ''))
    if (!execution) return
    const setter = /^set[A-Z]\w*$/.test(name) && args.length >= 2
    const binder = /^(bindValue|bindParam|bind_param|AddWithValue|Add|AddRange)$/.test(name)
    if (setter || binder) {
      // In branches and loops: what is bound in the end is not known.
      const isSure = context.loop === execution.loop && context.arms.length <= execution.arms.length
      const parameter = isSure ? parameterOf(name, args, this.language) : undefined
      if (!parameter || execution.bound.kind === 'unknown') execution.bound = { kind: 'unknown' }
      else if ('name' in parameter) addName(execution, parameter, placeOf(node))
      else addPosition(execution, parameter.number, parameter.value)
      return
    }
    if (RUNS_PREPARED.test(name)) this.#run(execution, node, args, context)
  }

  #runOf(node: Node, { arms }: Context): Run {
    return {
      method: calledOf(node).name.split('.').at(-1) ?? '',
      at: node.startIndex,
      end: node.endIndex,
      arms,
      endsPath: this.#paths.isEnded(node),
      result: resultOf(node),
      isDropped: isDroppedAt(node),
    }
  }

  /** A prepared statement is run: with the values of the call, where it has some. */
  #run(execution: Execution, node: Node, args: readonly Node[], context: Context): void {
    if (args.length > 0) execution.bound = boundOf(args, calledOf(node).name, this.language, execution.parts)
    const run = this.#runOf(node, context)
    execution.runs.push(run)
    execution.endsPath ||= run.endsPath
    // Prepared once, and run for each of many.
    if (execution.loop === null && context.loop !== null) {
      execution.loop = context.loop
      execution.roundNames = context.roundNames
    }
  }

  #add(
    parts: Part[],
    place: Place,
    bound: Bound,
    method: string,
    receiver: string,
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
      handle: null,
      runs: [],
      loop,
      roundNames,
      arms,
      endsPath: false,
      at,
      fn,
    }
    this.executions.push(execution)
    ;(fn ?? this.file).executions.push(execution)
    return execution
  }
}

function addPosition(execution: Execution, number: number | null, value: string): void {
  if (execution.bound.kind !== 'positional')
    execution.bound = { kind: 'positional', values: [], place: execution.place }
  const { values } = execution.bound
  values[number === null ? values.length : number - 1] = value
}

function addName(execution: Execution, { name, value }: { name: string; value: string }, place: Place): void {
  if (execution.bound.kind !== 'named') execution.bound = { kind: 'named', names: [], values: [], place }
  if (execution.bound.names.includes(name)) return
  execution.bound.names.push(name)
  execution.bound.values?.push(value)
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
    bound: values ? boundOf([values], 'query', 'typescript', text) : isShort ? { kind: 'unknown' } : { kind: 'none' },
    node: source,
  }
}
