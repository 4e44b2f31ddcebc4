/**
 * Characters that nobody sees as they stand, or that change how those beside them are shown: control and format characters, line
 * separators, and every blank but the plain one (the Unicode Standard, section 4.5, general categories). The source of an expression with
 * the flag `u`, and none itself: V8 looks all of them up as it makes one.
 */
export const UNSEEN = String.raw`[\p{Cc}\p{Cf}\p{Zl}\p{Zp}]|(?! )\p{Zs}`

const PLAIN = /^[\x20-\x7e]*$/

/** Whether a text holds such a character. */
export function hasUnseen(text: string): boolean {
  return !PLAIN.test(text) && new RegExp(UNSEEN, 'u').test(text)
}

/** A text with each such character as JSON escapes it (RFC 8259, section 7): it must not reach a terminal or a page as it is. */
export function escapeUnseen(text: string): string {
  return text.replace(new RegExp(UNSEEN, 'gu'), (character) =>
    [...Array(character.length).keys()]
      .map((at) => `\\u${character.charCodeAt(at).toString(16).padStart(4, '0')}`)
      .join(''),
  )
}

/** How much of what is the same is shown around what differs, in characters. */
const AROUND = 12

/** A text in so many characters at most, an ellipsis for the rest. */
export function abridge(text: string, longest: number): string {
  return text.length > longest ? `${text.slice(0, longest - 1)}…` : text
}

/** Two texts side by side, each in so many characters: where they are cut, it is to the part that differs. */
export function cutToDifference(one: string, other: string, longest: number): [string, string] {
  if (one.length <= longest && other.length <= longest) return [one, other]
  let start = 0
  while (start < one.length && start < other.length && one[start] === other[start]) start++
  let end = 0
  while (end < Math.min(one.length, other.length) - start && one.at(-1 - end) === other.at(-1 - end)) end++
  return [excerpt(one, start, end, longest), excerpt(other, start, end, longest)]
}

function excerpt(text: string, start: number, end: number, longest: number): string {
  const from = Math.max(0, start - AROUND)
  const to = Math.min(text.length, text.length - end + AROUND)
  const shown = `${from > 0 ? '…' : ''}${text.slice(from, to)}${to < text.length ? '…' : ''}`
  return abridge(shown, Math.max(longest, 2 * AROUND + 4))
}
