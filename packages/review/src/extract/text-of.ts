import type { Node } from 'web-tree-sitter'
import { BRACE_PLACES, formatted, PERCENT_PLACES, QUOTING_PLACES } from './formats.js'
import type { Part } from './facts.js'
import { itemsOf, joinItems } from './lists.js'
import { joined, placeOf, valuePart } from './parts.js'
import { asSometimes, isGuarded } from './sometimes.js'

/** The texts that names stand for, as far as a function has come; under `name[]` those of a list's items, under `name{}` one of an object's members. */
export type Scope = Map<string, Part[]>

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
  /^(strip|trim|lstrip|rstrip|ltrim|rtrim|TrimEnd|dedent|cleandoc|stripIndent|toString|ToString|intern|text|SQL|sql|gettext|stripMargin|AsSpan|Trim)$/
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

/** Constructors of a text that is put together bit by bit, and the calls that do it. */
const BUILDERS = /^(StringBuilder|StringBuffer)$/
export const APPENDING = /^(append|Append|AppendLine)$/

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
      return memberText(node, scope)
    case 'subscript_expression':
    case 'subscript':
    case 'element_access_expression':
      return subscriptText(node, scope)
    case 'conditional_expression':
    case 'ternary_expression': {
      const { condition, sides } = sidesOf(node)
      const texts = sides.map((side) => textOf(side, scope)).filter((each) => each !== undefined)
      const full = texts.find((each) => each.length > 0)
      const mayBeLeft = texts.some((each) => each.length === 0) && !isGuarded(node, condition)
      return full && mayBeLeft ? asSometimes(full) : (full ?? texts[0])
    }
    case 'object_creation_expression': {
      const { name, args } = calledOf(node)
      return BUILDERS.test(name) ? ((args[0] && textOf(args[0], scope)) ?? []) : undefined
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

/** The condition and the two sides of a conditional expression. */
function sidesOf(node: Node): { condition: Node | null; sides: Node[] } {
  const children = node.namedChildren.filter((child): child is Node => child !== null && child.type !== 'comment')
  // Python's has its condition between the two, and no names for them.
  const condition = node.childForFieldName('condition') ?? children[1]
  return { condition: condition ?? null, sides: children.filter(({ id }) => id !== condition?.id) }
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
          child.type === 'template_substitution' || child.type === 'interpolation'
            ? child.namedChildren.find((each) => each !== null && !/^interpolation_/.test(each.type))
            : child
        const known = inner ? textOf(inner, scope) : undefined
        if (known) parts.push(...known)
        else parts.push(valuePart(inner ?? child, 'interpolation', scope, placeOf(child)))
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
    return (
      text &&
      formatted(
        text,
        right.type === 'tuple' ? right.namedChildren.filter((child) => child !== null) : [right],
        PERCENT_PLACES,
        (each) => textOf(each, scope),
      )
    )
  }
  if (operator === '??' || operator === '||' || operator === '?:') return textOf(left, scope) && textOf(right, scope)
  if (operator !== '+' && operator !== '.') return undefined
  const [one, other] = [textOf(left, scope), textOf(right, scope)]
  if (!one && !other) return undefined
  const side = (parts: Part[] | undefined, from: Node): Part[] => parts ?? [valuePart(from, 'concatenation', scope)]
  return joined([...side(one, left), ...side(other, right)])
}

function call(node: Node, scope: Scope): Part[] | undefined {
  const { name, receiver, args } = calledOf(node)
  const short = name.split(/\.|::|->/).at(-1) ?? name
  if (FORMATTING.test(short) || FORMATTING.test(name)) {
    const isMethod = receiver !== null && !/^(String|string|util)$/.test(receiver.text)
    const base = isMethod && receiver ? textOf(receiver, scope) : args[0] && textOf(args[0], scope)
    const given = isMethod ? args : args.slice(1)
    const places = placesOf(node, short, receiver)
    return base && formatted(base, given, places, (each) => textOf(each, scope))
  }
  if (/^(replace|replaceAll|str_replace|preg_replace|Replace)$/.test(short)) {
    const base = receiver ? textOf(receiver, scope) : args[2] && textOf(args[2], scope)
    return base && [...base, { value: node.text.slice(-60), how: 'format' as const, place: placeOf(node) }]
  }
  if (KEEPING.test(short)) {
    const from = (receiver && textOf(receiver, scope)) ?? (args[0] && textOf(args[0], scope))
    return from && /trim|strip|TrimEnd/i.test(short) ? withoutLastComma(from) : from
  }
  if (APPENDING.test(short) && receiver) {
    const before = textOf(receiver, scope)
    return (
      before &&
      joined([
        ...before,
        ...args.flatMap((arg): Part[] => textOf(arg, scope) ?? [valuePart(arg, 'concatenation', scope)]),
      ])
    )
  }
  if (/^(join|Join|implode)$/.test(short)) return joinedText(receiver, args, scope)
  if (short === 'str_repeat' || short === 'repeat') return args[0] && textOf(receiver ?? args[0], scope)
  return undefined
}

/** What the places of a format look like: by what it is called, and by its language. */
function placesOf(node: Node, short: string, receiver: Node | null): RegExp {
  if (/printf|formatted$/.test(short)) return PERCENT_PLACES
  if (short !== 'format') return BRACE_PLACES
  if (receiver !== null) return /^(String|util)$/.test(receiver.text) ? PERCENT_PLACES : BRACE_PLACES
  return node.type === 'call_expression' ? QUOTING_PLACES : BRACE_PLACES
}

/** Without the comma behind the last of a list that was put together by repeating. */
function withoutLastComma(parts: readonly Part[]): Part[] {
  return parts.map((part, at) =>
    at === parts.length - 1 && 'text' in part ? { ...part, text: part.text.replace(/,\s*$/, '') } : part,
  )
}

/** A list's items as one text: of `list.join(', ')`, `', '.join(list)`, `String.join(', ', list)`, `implode(', ', $list)`. */
function joinedText(receiver: Node | null, args: readonly Node[], scope: Scope): Part[] | undefined {
  const isOnType = receiver !== null && /^(String|string)$/.test(receiver.text)
  const [one, other] = receiver && !isOnType ? [receiver, args[0]] : args
  for (const [list, separator] of [
    [one, other],
    [other, one],
  ]) {
    const items = list && itemsOf(list, scope, (each) => textOf(each, scope))
    if (!items || items.length === 0) continue
    const between = separator ? textOf(separator, scope)?.map((part) => ('text' in part ? part.text : '')) : undefined
    return joinItems(items, between?.join('') ?? ', ')
  }
  return undefined
}

function memberText(node: Node, scope: Scope): Part[] | undefined {
  const name = node.text.replace(/^(this|self|cls|static|\$this)(\.|->|::)/, '')
  return scope.get(node.text) ?? scope.get(name) ?? scope.get(name.replace(/(->|::)/, '.'))
}

/** A member of an object whose members are all known texts: the one that is named, else any of them. */
function subscriptText(node: Node, scope: Scope): Part[] | undefined {
  const [object, index] = node.namedChildren
  if (!object) return undefined
  const name = object.text.replace(/^(this|self|cls|static|\$this)(\.|->|::)/, '')
  const key = index?.text.replace(/^\[|\]$/g, '').replace(/^["'`]|["'`]$/g, '')
  return scope.get(`${name}.${key}`) ?? scope.get(`${name}{}`)
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
