/** How deep JSON may be nested that is sent here. */
export const DEEPEST_JSON = 200

/**
 * Looks at JSON text once, before it is read: how deep it goes, and whether it holds what PostgreSQL cannot.
 *
 * @returns what is wrong with it; undefined where nothing is
 */
export function findJsonLimit(text: string): string | undefined {
  let depth = 0
  let isInText = false
  for (let at = 0; at < text.length; at++) {
    const code = text.charCodeAt(at)
    if (isInText) {
      if (code === BACKSLASH) {
        const found = escapedLimit(text, at)
        if (found !== undefined) return found
        at++
      } else if (code === QUOTE) isInText = false
    } else if (code === QUOTE) isInText = true
    else if (code === OPEN_BRACKET || code === OPEN_BRACE) {
      if (++depth > DEEPEST_JSON) return `it is nested more than ${DEEPEST_JSON} levels deep`
    } else if (code === CLOSE_BRACKET || code === CLOSE_BRACE) depth--
  }
  return undefined
}

/** What an escape in a text stands for that cannot be stored. */
function escapedLimit(text: string, at: number): string | undefined {
  if (text[at + 1] !== 'u') return undefined
  const code = parseInt(text.slice(at + 2, at + 6), 16)
  if (code === 0) return 'it holds U+0000, which PostgreSQL cannot store'
  if (code >= 0xdc00 && code <= 0xdfff) return isSecondHalf(text, at) ? undefined : HALF_PAIR
  if (code >= 0xd800 && code <= 0xdbff)
    return /^\\u[dD][c-fC-F]/.test(text.slice(at + 6, at + 9)) ? undefined : HALF_PAIR
  return undefined
}

function isSecondHalf(text: string, at: number): boolean {
  return /^\\u[dD][89abAB]/.test(text.slice(at - 6, at - 3))
}

const HALF_PAIR = 'it holds half a surrogate pair, which is no character'
const BACKSLASH = 0x5c
const QUOTE = 0x22
const OPEN_BRACKET = 0x5b
const CLOSE_BRACKET = 0x5d
const OPEN_BRACE = 0x7b
const CLOSE_BRACE = 0x7d
