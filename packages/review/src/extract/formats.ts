import type { Node } from 'web-tree-sitter'
import type { Part } from './facts.js'
import { placeOf } from './parts.js'
import { asSometimes } from './sometimes.js'

/** The places of a format as `printf` has them, and as braces make them. */
export const PERCENT_PLACES = /(%(?:\d+\$)?[-+]?\d*(?:\.\d+)?[sdifuxn](?![a-zA-Z])|%\(\w+\)[sdif])/
/** Those that quote, as `format` in PostgreSQL does: %I a name, %L a text. */
export const QUOTING_PLACES = /(%(?:\d+\$)?[sIL](?![a-zA-Z]))/
export const BRACE_PLACES = /(\{\w*(?::[^}]*)?\})/

/** Values go where a format has its places: each where it is known which, else all of them. */
export function formatted(
  text: Part[],
  given: readonly Node[],
  places: RegExp,
  textOf: (node: Node) => Part[] | undefined,
): Part[] {
  let isFound = false
  let next = 0
  const parts = text.flatMap((part): Part[] => {
    if (!('text' in part)) return [part]
    const pieces = part.text.split(places)
    const filled = pieces.flatMap((piece, at): Part[] => {
      if (at % 2 === 0)
        return piece === ''
          ? []
          : [{ text: places !== BRACE_PLACES ? piece.replaceAll('%%', '%') : piece, place: part.place }]
      isFound = true
      const value = valueFor(piece, given, () => next++)
      const known = value && textOf(value)
      if (known) return known
      const [first] = value ? [value] : given
      if (!first) return [{ text: piece, place: part.place }]
      // What is not a number has no place of this kind.
      const safe = /^%[^s(]*[difu]$|^%\(\w+\)[dif]$/.test(piece)
        ? 'number'
        : ({ I: 'name', L: 'quoted' } as const)[piece.at(-1) as 'I']
      return [
        {
          value: value?.text ?? given.map((each) => each.text).join(', '),
          how: 'format',
          place: placeOf(first),
          ...(safe && { safe }),
        },
      ]
    })
    return part.sometimes ? asSometimes(filled) : filled
  })
  return isFound ? parts : text
}

/** What goes into one place: by its name, its number, or in turn. */
function valueFor(place: string, given: readonly Node[], next: () => number): Node | undefined {
  const name = /^%\((\w+)\)|^\{([A-Za-z_]\w*)/.exec(place)
  if (name) return named(given, name[1] ?? name[2] ?? '')
  const number = /^\{(\d+)/.exec(place)?.[1]
  const ordinal = /^%(\d+)\$/.exec(place)?.[1]
  const at = number !== undefined ? Number(number) : ordinal !== undefined ? Number(ordinal) - 1 : next()
  const value = given[at]
  return value === undefined || /splat|spread|keyword_argument/.test(value.type) ? undefined : value
}

function named(given: readonly Node[], name: string): Node | undefined {
  for (const each of given) {
    if (each.type === 'keyword_argument' && each.childForFieldName('name')?.text === name)
      return each.childForFieldName('value') ?? undefined
    if (each.type !== 'dictionary') continue
    for (const pair of each.namedChildren)
      if (pair?.childForFieldName('key')?.text.slice(1, -1) === name)
        return pair.childForFieldName('value') ?? undefined
  }
  return undefined
}
