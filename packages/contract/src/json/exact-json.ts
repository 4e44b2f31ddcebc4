import { parse } from 'lossless-json'

/**
 * JSON text kept exactly as written: a number that a double cannot hold (`12345678901234567.89`, `1.00`, `-0`), or a
 * whole json column. It is printed back character for character.
 */
export class RawJson {
  constructor(readonly text: string) {}

  /** What generic printers see: the nearest JavaScript value. Use `printJson` where no digit may be lost. */
  toJSON(): unknown {
    return JSON.parse(this.text)
  }
}

export type Json = null | boolean | number | string | RawJson | Json[] | { [name: string]: Json }

/**
 * Reads JSON (RFC 8259) without losing a digit: a number becomes a JavaScript number only where printing that number
 * gives the same characters again, and a `RawJson` otherwise. A repeated member name is refused.
 *
 * @throws SyntaxError with the position, when the text is not JSON.
 */
export function parseJson(text: string): Json {
  return parse(text, null, {
    parseNumber: (digits) => (String(Number(digits)) === digits ? Number(digits) : new RawJson(digits)),
  }) as Json
}

/** Prints a value as JSON, with `RawJson` written as it stands. `indent` is a number of spaces, 0 for one line. */
export function printJson(value: unknown, indent = 0): string {
  return print(value, indent, '') ?? 'null'
}

function print(value: unknown, indent: number, margin: string): string | undefined {
  if (value instanceof RawJson) return value.text
  if (Object.is(value, -0)) return '-0'
  if (value === null || typeof value !== 'object') return JSON.stringify(value)
  if (value instanceof Date) return JSON.stringify(value)
  const inner = margin + ' '.repeat(indent)
  const parts = Array.isArray(value)
    ? value.map((item) => print(item, indent, inner) ?? 'null')
    : Object.entries(value).flatMap(([name, item]) => {
        const text = print(item, indent, inner)
        return text === undefined ? [] : [`${JSON.stringify(name)}:${indent > 0 ? ' ' : ''}${text}`]
      })
  const [open, close] = Array.isArray(value) ? ['[', ']'] : ['{', '}']
  if (parts.length === 0) return open + close
  return indent > 0
    ? `${open}\n${inner}${parts.join(`,\n${inner}`)}\n${margin}${close}`
    : open + parts.join(',') + close
}
