import type { Node } from 'web-tree-sitter'
import type { Part, Place } from './facts.js'

/** The texts that names stand for, as far as a function has come. */
export type Scope = Map<string, Part[]>

const MOST_PARTS = 400

export function placeOf(node: Node): Place {
  return {
    line: node.startPosition.row + 1,
    column: node.startPosition.column + 1,
    endLine: node.endPosition.row + 1,
    endColumn: node.endPosition.column + 1,
  }
}

const STRINGS = new Set([
  'string',
  'string_literal',
  'template_string',
  'concatenated_string',
  'encapsed_string',
  'heredoc',
  'nowdoc',
  'interpolated_string_expression',
  'verbatim_string_literal',
  'raw_string_literal',
  'character_literal',
])
const FRAGMENTS = new Set([
  'string_fragment',
  'string_content',
  'string_literal_content',
  'heredoc_body',
  'nowdoc_body',
  'nowdoc_string',
  'multiline_string_fragment',
  'raw_string_content',
  'verbatim_string_literal_content',
  'interpolation_text',
])
const VALUES = new Set([
  'template_substitution',
  'interpolation',
  'variable_name',
  'subscript_expression',
  'member_access_expression',
  'dynamic_variable_name',
])

/** Calls whose text is that of what they are called on, or of their argument. */
const KEEPING =
  /^(strip|trim|lstrip|rstrip|ltrim|rtrim|dedent|cleandoc|stripIndent|toString|intern|text|SQL|sql|gettext|stripMargin|AsSpan|Trim)$/
/** Calls that put their arguments into the text. */
const FORMATTING = /^(format|sprintf|vsprintf|Format|formatted|String\.format|string\.Format|util\.format|printf)$/

/** The text that an expression gives; undefined where it gives none, as far as one can see. */
export function textOf(node: Node, scope: Scope): Part[] | undefined {
  if (depth > DEEPEST) return undefined
  depth++
  try {
    return textOfNode(node, scope)
  } finally {
    depth--
  }
}

/** How deep expressions may be nested: what goes deeper was not written by a person. */
const DEEPEST = 400
let depth = 0

function textOfNode(node: Node, scope: Scope): Part[] | undefined {
  const type = node.type
  if (STRINGS.has(type)) return literal(node, scope)
  switch (type) {
    case 'parenthesized_expression':
    case 'await_expression':
    case 'as_expression':
    case 'non_null_expression':
    case 'argument': {
      const inner = node.namedChildren.find((child) => child !== null && child.type !== 'comment')
      return inner ? textOf(inner, scope) : undefined
    }
    case 'binary_expression':
    case 'binary_operator':
      return binary(node, scope)
    case 'identifier':
    case 'variable_name':
    case 'name':
      return scope.get(node.text)
    case 'member_expression':
    case 'member_access_expression':
    case 'attribute':
    case 'field_access':
    case 'class_constant_access_expression':
    case 'member_call_expression_':
      return scope.get(node.text) ?? scope.get(node.text.replace(/^(this|self|static|\$this)(\.|->|::)/, ''))
    case 'conditional_expression':
    case 'ternary_expression': {
      const branches = node.namedChildren
        .flatMap((child) => (child ? [textOf(child, scope)] : []))
        .filter((each) => each !== undefined)
      return branches[0]
    }
    case 'call':
    case 'call_expression':
    case 'method_invocation':
    case 'invocation_expression':
    case 'function_call_expression':
    case 'member_call_expression':
    case 'scoped_call_expression':
      return call(node, scope)
    default:
      return undefined
  }
}

function literal(node: Node, scope: Scope): Part[] {
  const parts: Part[] = []
  const isFormatted = /^[fF]|^[rR][fF]/.test(node.text)
  collect(node)
  if (parts.length === 0 && node.namedChildCount === 0) {
    const bare = node.text.replace(/^[@$a-zA-Z]*("""|'''|["'`])/, '').replace(/("""|'''|["'`])$/, '')
    if (bare !== '') parts.push({ text: bare, place: placeOf(node) })
  }
  return joined(parts)

  function collect(from: Node): void {
    if (from.type === 'concatenated_string') {
      for (const child of from.namedChildren) if (child) parts.push(...(textOf(child, scope) ?? []))
      return
    }
    for (const child of from.children) {
      if (!child) continue
      if (VALUES.has(child.type) && child.isNamed) {
        const inner =
          child.type === 'template_substitution' || child.type === 'interpolation' ? child.namedChildren[0] : child
        const known = inner ? textOf(inner, scope) : undefined
        if (known) parts.push(...known)
        else parts.push({ value: inner?.text ?? child.text, how: 'interpolation', place: placeOf(child) })
      } else if (child.type === 'escape_sequence' || child.type === 'string_literal_encoding')
        parts.push({ text: unescaped(child.text), place: placeOf(child) })
      else if (FRAGMENTS.has(child.type) && child.namedChildCount === 0)
        parts.push({
          text: isFormatted ? child.text.replaceAll('{{', '{').replaceAll('}}', '}') : child.text,
          place: placeOf(child),
        })
      else if (child.namedChildCount > 0) collect(child)
    }
  }
}

function unescaped(text: string): string {
  return (
    { '\\n': '\n', '\\t': '\t', '\\r': '\r', '\\"': '"', "\\'": "'", '\\\\': '\\', '\\`': '`', '\\$': '$' }[text] ??
    text
  )
}

function binary(node: Node, scope: Scope): Part[] | undefined {
  const [left, right] = [
    node.childForFieldName('left') ?? node.namedChildren[0],
    node.childForFieldName('right') ?? node.namedChildren.at(-1),
  ]
  const operator = node.childForFieldName('operator')?.text ?? node.children[1]?.text ?? ''
  if (!left || !right) return undefined
  if (operator === '%') {
    const text = textOf(left, scope)
    return text && formatted(text, right.text, placeOf(right), PERCENT_PLACES)
  }
  if (operator !== '+' && operator !== '.') return undefined
  const [one, other] = [textOf(left, scope), textOf(right, scope)]
  if (!one && !other) return undefined
  const side = (parts: Part[] | undefined, from: Node): Part[] =>
    parts ?? [{ value: from.text, how: 'concatenation', place: placeOf(from) }]
  return joined([...side(one, left), ...side(other, right)])
}

function call(node: Node, scope: Scope): Part[] | undefined {
  const { name, receiver, args } = calledOf(node)
  const short = name.split(/\.|::|->/).at(-1) ?? name
  if (FORMATTING.test(short) || FORMATTING.test(name)) {
    const isMethod = receiver !== null && !/^(String|string|util)$/.test(receiver.text)
    const base = isMethod && receiver ? textOf(receiver, scope) : args[0] && textOf(args[0], scope)
    const given = isMethod ? args : args.slice(1)
    const places =
      /printf|^%|formatted$/.test(short) ||
      (short === 'format' && receiver !== null && /^(String|util)$/.test(receiver.text))
        ? PERCENT_PLACES
        : BRACE_PLACES
    return base && formatted(base, given.map((each) => each.text).join(', '), placeOf(node), places)
  }
  if (/^(replace|replaceAll|str_replace|preg_replace|Replace)$/.test(short)) {
    const base = receiver ? textOf(receiver, scope) : args[2] && textOf(args[2], scope)
    return base && [...base, { value: node.text.slice(-60), how: 'format' as const, place: placeOf(node) }]
  }
  if (KEEPING.test(short)) {
    const from = receiver && textOf(receiver, scope)
    return from ?? (args[0] && textOf(args[0], scope))
  }
  if (short === 'join' && args[0]) {
    const list =
      args[0].type === 'array' || args[0].type === 'list' ? args[0] : receiver?.type === 'array' ? receiver : undefined
    const texts = list?.namedChildren.map((child) => (child ? textOf(child, scope) : undefined))
    if (texts && texts.every((each) => each !== undefined)) return joined(texts.flat() as Part[])
  }
  return undefined
}

const PERCENT_PLACES = /(%(?:\d+\$)?[-+]?\d*(?:\.\d+)?[sdifuxn](?![a-zA-Z])|%\(\w+\)[sdif])/
const BRACE_PLACES = /(\{\w*(?::[^}]*)?\})/

/** Values go where a format has its places. */
function formatted(text: Part[], values: string, place: Place, places: RegExp): Part[] {
  let isFound = false
  const parts = text.flatMap((part): Part[] => {
    if (!('text' in part)) return [part]
    const pieces = part.text.split(places)
    return pieces.flatMap((piece, at): Part[] => {
      if (at % 2 === 0)
        return piece === ''
          ? []
          : [{ text: places === PERCENT_PLACES ? piece.replaceAll('%%', '%') : piece, place: part.place }]
      isFound = true
      return [{ value: values, how: 'format', place }]
    })
  })
  return isFound ? parts : text
}

/** What a call calls, on what, and with what. */
export function calledOf(node: Node): { name: string; receiver: Node | null; args: Node[] } {
  const fn = node.childForFieldName('function') ?? node.childForFieldName('constructor')
  const object = node.childForFieldName('object') ?? node.childForFieldName('scope')
  const named = node.childForFieldName('name') ?? node.childForFieldName('type')
  const list =
    node.childForFieldName('arguments') ??
    node.namedChildren.find((child) => child !== null && /argument/.test(child.type)) ??
    null
  const args = (list?.namedChildren ?? []).filter((child): child is Node => child !== null && child.type !== 'comment')
  if (named) return { name: named.text, receiver: object, args: args.map(inner) }
  if (!fn) return { name: '', receiver: null, args: args.map(inner) }
  const receiver = fn.childForFieldName('object') ?? fn.childForFieldName('expression')
  const property = fn.childForFieldName('property') ?? fn.childForFieldName('attribute') ?? fn.childForFieldName('name')
  return { name: property?.text ?? fn.text, receiver: receiver ?? null, args: args.map(inner) }
}

/** An argument without what wraps it; of a named one its value. */
function inner(node: Node): Node {
  if (node.type !== 'argument') return node
  return node.namedChildren.findLast((child) => child !== null) ?? node
}

/** Neighbouring constants as one. */
function joined(parts: Part[]): Part[] {
  const result: Part[] = []
  for (const part of parts.slice(0, MOST_PARTS)) {
    const last = result.at(-1)
    if (last && 'text' in last && 'text' in part && last.text.length < 200_000)
      result[result.length - 1] = {
        text: last.text + part.text,
        place: { ...last.place, endLine: part.place.endLine, endColumn: part.place.endColumn },
      }
    else result.push(part)
  }
  return result
}
