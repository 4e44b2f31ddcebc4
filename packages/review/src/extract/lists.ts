import type { Node } from 'web-tree-sitter'
import type { Part } from './facts.js'
import { joined, placeOf } from './parts.js'

/** Stands between the items of a list, until they are joined. */
export const BETWEEN_ITEMS = '\ue002'

type TextOf = (node: Node) => Part[] | undefined

/** The texts of a list's items, or of one of them where each is made alike; undefined where they are not known. */
export function itemsOf(node: Node, scope: ReadonlyMap<string, Part[]>, textOf: TextOf): Part[] | undefined {
  switch (node.type) {
    case 'array':
    case 'list':
    case 'tuple':
    case 'array_creation_expression':
    case 'array_initializer':
    case 'collection_expression': {
      const texts = node.namedChildren.flatMap((child) => (child ? [textOf(itemIn(child))] : []))
      return texts.every((each) => each !== undefined) ? separated(texts, node) : undefined
    }
    case 'argument':
    case 'as_expression':
    case 'parenthesized_expression':
    case 'implicit_array_creation_expression': {
      const [inner] = node.namedChildren
      return inner ? itemsOf(inner, scope, textOf) : undefined
    }
    // Python: ['%s'] * n, '%s' for _ in ids.
    case 'binary_operator': {
      const [left] = node.namedChildren
      return left && /^(list|tuple)$/.test(left.type) ? itemsOf(left, scope, textOf) : undefined
    }
    case 'generator_expression':
    case 'list_comprehension': {
      const body = node.childForFieldName('body')
      return body ? textOf(body) : undefined
    }
    case 'call':
    case 'call_expression':
    case 'method_invocation':
    case 'invocation_expression':
    case 'function_call_expression':
      return itemsOfCall(node, textOf)
    default:
      return scope.get(`${node.text}[]`)
  }
}

/** Calls that make each item alike: of a function what it gives, of a filling what it fills with. */
function itemsOfCall(node: Node, textOf: TextOf): Part[] | undefined {
  const name = /(?<![\w$])([\w$]+)\s*\($/.exec(
    node.text.slice(0, Math.max(0, (argumentsOf(node)?.startIndex ?? node.startIndex) - node.startIndex + 1)),
  )?.[1]
  const args = argumentsOf(node)?.namedChildren.flatMap((child) => (child ? [itemIn(child)] : [])) ?? []
  switch (name) {
    case 'map':
    case 'Select':
    case 'array_map': {
      const fn = args.find((each) => /function|lambda/.test(each.type))
      const body = fn?.childForFieldName('body')
      return body ? textOf(body) : undefined
    }
    case 'fill':
      return args[0] && textOf(args[0])
    case 'array_fill':
      return args[2] && textOf(args[2])
    case 'nCopies':
      return args[1] && textOf(args[1])
    case 'Repeat':
      return args[0] && textOf(args[0])
    default:
      return undefined
  }
}

function argumentsOf(node: Node): Node | undefined {
  return (
    node.childForFieldName('arguments') ??
    node.namedChildren.find((child): child is Node => child !== null && /argument/.test(child.type)) ??
    undefined
  )
}

/** An item without what wraps it. */
function itemIn(node: Node): Node {
  return /^(argument|array_element_initializer)$/.test(node.type)
    ? (node.namedChildren.findLast((child) => child !== null) ?? node)
    : node
}

/** Items one behind the other, told apart. */
function separated(texts: readonly Part[][], node: Node): Part[] {
  const place = placeOf(node)
  return joined(texts.flatMap((parts, at) => (at === 0 ? parts : [{ text: BETWEEN_ITEMS, place }, ...parts])))
}

/** One more item at the end of a list. */
export function withItem(items: readonly Part[], item: readonly Part[]): Part[] {
  const [first] = item
  return joined(
    items.length === 0 || !first
      ? [...items, ...item]
      : [
          ...items,
          { text: BETWEEN_ITEMS, place: first.place, ...(first.sometimes && { sometimes: true as const }) },
          ...item,
        ],
  )
}

/** A list's items as one text. */
export function joinItems(items: readonly Part[], separator: string): Part[] {
  return joined(
    items.map((part) => ('text' in part ? { ...part, text: part.text.replaceAll(BETWEEN_ITEMS, separator) } : part)),
  )
}

/** The texts that an object's or dictionary's members stand for, by their keys; undefined where one is no text. */
export function membersOf(node: Node, textOf: TextOf): Map<string, Part[]> | undefined {
  if (/^(as_expression|satisfies_expression|parenthesized_expression)$/.test(node.type))
    return node.namedChildren[0] ? membersOf(node.namedChildren[0], textOf) : undefined
  if (!/^(object|dictionary|array_creation_expression)$/.test(node.type)) return undefined
  const members = new Map<string, Part[]>()
  for (const pair of node.namedChildren) {
    if (!pair || pair.type === 'comment') continue
    const [key, value] =
      pair.type === 'array_element_initializer' && pair.namedChildCount === 2
        ? pair.namedChildren
        : [pair.childForFieldName('key'), pair.childForFieldName('value')]
    const text = value && textOf(value)
    if (!key || !text) return undefined
    members.set(key.text.replace(/^["'`]|["'`]$/g, ''), text)
  }
  return members.size > 0 ? members : undefined
}
