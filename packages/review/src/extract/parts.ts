import type { Node } from 'web-tree-sitter'
import type { Part, Place } from './facts.js'

const MOST_PARTS = 400
/** Where putting a text together ends, in characters: no statement is checked that is longer. */
const LONGEST_TEXT = 100_000

export function placeOf(node: Node): Place {
  return {
    line: node.startPosition.row + 1,
    column: node.startPosition.column + 1,
    endLine: node.endPosition.row + 1,
    endColumn: node.endPosition.column + 1,
  }
}

/** What a name in a scope is called where it can only hold a number. */
export const numberKey = (name: string): string => `${name}#`
/** What gives a number, whatever it is given. */
const GIVES_NUMBER =
  /^(?:\(int\)|\(float\)|intval\(|int\(|float\(|len\(|count\(|sizeof\(|time\(|strtotime\(|microtime\(|Number\(|parseInt\(|parseFloat\(|Integer\.parse|Long\.parse|int\.Parse|long\.Parse|Convert\.ToInt)|\.length$|\.size\(\)$|\.Count$/

/** Whether an expression can only give a number. */
export function isNumber(expression: string, scope: ReadonlyMap<string, unknown>): boolean {
  return GIVES_NUMBER.test(expression) || scope.has(numberKey(expression))
}

/** A value that is put into a text. */
export function valuePart(
  node: Node,
  how: 'interpolation' | 'concatenation' | 'format',
  scope: ReadonlyMap<string, unknown>,
  place: Place = placeOf(node),
): Part {
  return { value: node.text, how, place, ...(isNumber(node.text, scope) && { safe: 'number' as const }) }
}

/** Neighbouring constants as one; what goes beyond the limits is left out, so that a text which doubles itself stays small. */
export function joined(parts: readonly Part[]): Part[] {
  const result: Part[] = []
  let length = 0
  for (const part of parts.slice(0, MOST_PARTS)) {
    const last = result.at(-1)
    length += 'text' in part ? part.text.length : part.value.length
    // With what goes beyond it, it is longer than any that is checked, and is not taken for a whole one.
    if (length > LONGEST_TEXT) {
      result.push(part)
      break
    }
    if (last && 'text' in last && 'text' in part && last.sometimes === part.sometimes)
      result[result.length - 1] = {
        ...last,
        text: last.text + part.text,
        place: { ...last.place, endLine: part.place.endLine, endColumn: part.place.endColumn },
      }
    else result.push(part)
  }
  return result
}
