import { RawJson } from '@ledgerman/contract'

/**
 * What stands for a sensitive value in the scratch database: of the same shape, so that checks of form and length still hold, and
 * different for every row, so that unique constraints do.
 *
 * @param number counts the rows.
 * @returns undefined where nothing can stand for it.
 */
export function maskedValue(value: unknown, number: number): unknown {
  if (value === null || typeof value === 'boolean') return value === null ? null : false
  if (typeof value === 'string') return maskedText(value, number)
  if (value instanceof RawJson) return 1
  if (typeof value === 'object') return Array.isArray(value) ? [] : {}
  return 1
}

function maskedText(text: string, number: number): string {
  if (/^\d{4}-\d{2}-\d{2}/.test(text)) return `2000-01-01${text.slice(10).replace(/\d/g, '0')}`
  let rest = number
  // From the front, since what follows an @ or a last dot is often looked at.
  return text.replace(/[\p{L}\p{N}]/gu, (character) => {
    if (/\p{N}/u.test(character)) {
      const digit = rest % 10
      rest = Math.floor(rest / 10)
      return String(digit)
    }
    const letter = String.fromCharCode(97 + (rest % 26))
    rest = Math.floor(rest / 26)
    return character === character.toLowerCase() ? letter : letter.toUpperCase()
  })
}
