import type { Node } from 'web-tree-sitter'
import type { Bound, Place } from './facts.js'
import type { SourceLanguage } from './grammar.js'
import { placeOf } from './text-of.js'

/** What stands beside a statement's text as its values. */
export function boundOf(args: readonly Node[], method: string, language: SourceLanguage): Bound {
  const [first] = args
  if (!first) return { kind: 'none' }
  const place = placeOf(first)
  switch (first.type) {
    case 'array':
    case 'tuple':
    case 'list':
    case 'array_creation_expression':
    case 'collection_expression':
      return listOf(first, place, method)
    case 'object':
    case 'dictionary':
      return namedOf(first, place)
    case 'anonymous_object_creation_expression':
      return {
        kind: 'named',
        place,
        names: first.text
          .replace(/^new\s*\{|\}$/g, '')
          .split(',')
          .map((part) => /^\s*(\w+)\s*=/.exec(part)?.[1] ?? /(\w+)\s*$/.exec(part)?.[1] ?? '')
          .filter(Boolean),
      }
    case 'parenthesized_expression':
      // A tuple of one needs its comma.
      return language === 'python' && /^(execute)$/.test(method) && !isCollection(first)
        ? { kind: 'positional', values: [first.text.slice(1, -1)], place, isNoTuple: true }
        : { kind: 'unknown' }
    default:
      break
  }
  // asyncpg and the like take the values one by one.
  if (language === 'python' && /^(fetch|fetchrow|fetchval)$/.test(method))
    return args.some((arg) => arg.type === 'list_splat' || arg.type === 'keyword_argument')
      ? { kind: 'unknown' }
      : { kind: 'positional', values: args.map((arg) => arg.text), place }
  return { kind: 'unknown' }
}

function isCollection(node: Node): boolean {
  const [child] = node.namedChildren
  return (
    child !== undefined && child !== null && !/^(identifier|attribute|integer|float|string|subscript)$/.test(child.type)
  )
}

function listOf(node: Node, place: Place, method: string): Bound {
  const items = node.namedChildren.filter((child): child is Node => child !== null && child.type !== 'comment')
  const hasSpread = items.some((item) => /spread|splat|unpack/.test(item.type) || item.text.startsWith('...'))
  if (hasSpread || /many$|batch/i.test(method)) return { kind: 'unknown' }
  const keyed = items.filter((item) => item.type === 'array_element_initializer' && item.text.includes('=>'))
  if (keyed.length > 0)
    return {
      kind: 'named',
      place,
      names: keyed.map((item) => (item.namedChildren[0]?.text ?? '').replace(/^["']:?|["']$/g, '')),
    }
  return { kind: 'positional', values: items.map((item) => item.text), place }
}

function namedOf(node: Node, place: Place): Bound {
  const pairs = node.namedChildren.filter((child): child is Node => child !== null && child.type !== 'comment')
  if (pairs.some((pair) => /spread|splat/.test(pair.type))) return { kind: 'unknown' }
  return {
    kind: 'named',
    place,
    names: pairs.map((pair) => (pair.childForFieldName('key') ?? pair).text.replace(/^["'`]:?|["'`]$/g, '')),
  }
}
