import type { Node } from 'web-tree-sitter'
import type { Bound, Part, Place } from './facts.js'
import type { SourceLanguage } from './grammar.js'
import { placeOf } from './parts.js'
import { calledOf } from './text-of.js'

/** What stands beside a statement's text as its values. */
export function boundOf(args: readonly Node[], method: string, language: SourceLanguage, text: readonly Part[]): Bound {
  const [first] = args
  if (!first) return { kind: 'none' }
  if (takesEach(args, method, language, text))
    return { kind: 'positional', values: args.map((arg) => arg.text), place: placeOf(first) }
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
          .map((part) => /^\s*(\w+)\s*=/.exec(part)?.[1] ?? /\b(\w+)$/.exec(part.trimEnd())?.[1] ?? '')
          .filter(Boolean),
      }
    case 'parenthesized_expression':
      // A tuple of one needs its comma.
      return language === 'python' && /^(execute)$/.test(method) && !isCollection(first)
        ? { kind: 'positional', values: [first.text.slice(1, -1)], place, isNoTuple: true }
        : { kind: 'unknown' }
    case 'method_invocation': {
      const names = namesInMap(first)
      return names ? { kind: 'named', names, place } : { kind: 'unknown' }
    }
    default:
      break
  }
  return { kind: 'unknown', text: args.map((arg) => arg.text).join(', ') }
}

/** Whether the values are given one by one, and not in a list. */
function takesEach(args: readonly Node[], method: string, language: SourceLanguage, text: readonly Part[]): boolean {
  const hasOpen = args.some((arg) =>
    /splat|spread|keyword_argument|lambda|array_creation|method_reference|^(list|tuple|array|dictionary|object)$/.test(
      arg.type,
    ),
  )
  const written = text.map((part) => ('text' in part ? part.text : '')).join('')
  // Python: drivers that write $1 take them so.
  if (language === 'python')
    return !hasOpen && /\$\d/.test(written) && /^(execute|fetch|fetchrow|fetchval)$/.test(method)
  // Java: a single name may be a list or a setter of its own; behind more than one each is a value.
  return (
    language === 'java' &&
    method === 'update' &&
    args.length > 1 &&
    !hasOpen &&
    written.includes('?') &&
    !args.some((arg) => /^new\s/.test(arg.text))
  )
}

/** A value that is bound to a prepared statement: under a name, or by its number (null: the next). The value is empty where it is not known. */
export type Parameter = { name: string; value: string } | { number: number | null; value: string }

/**
 * The parameter that a call binds to a prepared statement: by its name, or by its number (null: the next).
 * @returns undefined where that is not known.
 */
export function parameterOf(method: string, args: readonly Node[], language: SourceLanguage): Parameter | undefined {
  const [first, second] = args
  if (!first || /^(bind_param|AddRange)$/.test(method)) return undefined
  if (/creation_expression$/.test(first.type)) return newParameter(first)
  if (language === 'csharp' && method === 'AddWithValue' && !second) return { number: null, value: first.text }
  if (/^\d+$/.test(first.text)) return { number: Number(first.text), value: second?.text ?? '' }
  if (!/^[@$]*["'`]/.test(first.text)) return undefined
  // Beside the value stands its type: in PHP behind it, in C# before it, or without it.
  const value = language === 'php' ? second : method === 'AddWithValue' ? args.at(-1) : undefined
  return { name: nameIn(first.text), value: value?.text ?? '' }
}

/** C#: `new NpgsqlParameter("name", value)`, `new() { ParameterName = "name", Value = value }`, without a name the next. */
function newParameter(node: Node): Parameter | undefined {
  const [, given = ''] = /^new[^({]*\(\s*([@$]?"[^"]*")?/.exec(node.text) ?? []
  const [, named] = /\bParameterName\s*=\s*([@$]?"[^"]*")/.exec(node.text) ?? []
  const name = named ?? given
  const value = /\b(?:Typed)?Value\s*=\s*([^,}]+)/.exec(node.text)?.[1]?.trim()
  if (name !== '') return { name: nameIn(name), value: value ?? calledOf(node).args.at(-1)?.text ?? '' }
  return value === undefined ? undefined : { number: null, value }
}

function nameIn(text: string): string {
  return text.replace(/^[@$]*["'`]?[:@]?|["'`]$/g, '')
}

/** Java: the keys of `Map.of("code", code, …)`, and of `new …Source().addValue("code", code)…`; undefined where it is something else. */
function namesInMap(node: Node, depth = 0): string[] | undefined {
  const { name, receiver, args } = calledOf(node)
  const [key] = args
  if (!key || !/^"/.test(key.text) || depth > 200) return undefined
  if (name === 'of' && receiver?.text === 'Map')
    return args.filter((_, at) => at % 2 === 0).map((each) => each.text.replace(/^"|"$/g, ''))
  if (name !== 'addValue' || !receiver) return undefined
  const own = key.text.replace(/^"|"$/g, '')
  if (receiver.type === 'method_invocation') {
    const before = namesInMap(receiver, depth + 1)
    return before && [...before, own]
  }
  return receiver.type === 'object_creation_expression' && calledOf(receiver).args.length === 0 ? [own] : undefined
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
      values: keyed.map((item) => item.namedChildren.at(-1)?.text ?? ''),
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
    values: pairs.map((pair) => (pair.childForFieldName('value') ?? pair).text),
  }
}
