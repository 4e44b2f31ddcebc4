import { parse } from 'lossless-json'
import { quotedEnd } from './quoted-end.js'

/**
 * JSON text kept exactly as written: a number that a double cannot hold (`12345678901234567.89`, `1.00`, `-0`), or a
 * whole json column. It is printed back character for character.
 */
export class RawJson {
  constructor(readonly text: string) {}

  /** What generic printers see: the nearest JavaScript value. Use `printJson` where no digit may be lost. */
  toJSON(): unknown {
    if (!met) return JSON.parse(this.text)
    met.push(this.text)
    return placeOfRaw()
  }

  toString(): string {
    return this.text
  }
}

/** A number is none that JSON's own printer would write otherwise: the zero with a sign is a `RawJson`. */
export type Json = null | boolean | number | string | RawJson | Json[] | { [name: string]: Json }

/**
 * Reads JSON (RFC 8259) without losing a digit: a number becomes a JavaScript number only where printing that number
 * gives the same characters again, and a `RawJson` otherwise. A repeated member name is refused.
 *
 * @throws SyntaxError with the position, when the text is not JSON.
 */
export function parseJson(text: string): Json {
  const plain = readPlainly(text)
  const isWhole = plain?.names === countMembers(plain?.value ?? null)
  if (plain?.isExact && isWhole) return plain.value
  const value = parse(text, null, { parseNumber }) as Json
  // The other reader lets a member pass that has the same value twice, or an empty list and an empty object.
  if (plain && !isWhole) throw new SyntaxError('A member is named twice')
  return value
}

/**
 * Reads JSON that is printed here or kept by PostgreSQL. Its type json may have a member twice, of which the last counts (PostgreSQL
 * documentation, section 8.14).
 */
export function parsePrinted(text: string): Json {
  const plain = readPlainly(text)
  return plain?.isExact
    ? plain.value
    : (parse(text, null, { parseNumber, onDuplicateKey: ({ newValue }) => newValue }) as Json)
}

/**
 * What JavaScript's own reader makes of a text, and how many members it names: most has no number that a double cannot hold, and long texts take a
 * hundredth of the time so. Undefined where it is no JSON: the other reader says at which place.
 */
function readPlainly(text: string): { value: Json; names: number; isExact: boolean } | undefined {
  let value: Json
  try {
    value = JSON.parse(text) as Json
  } catch {
    return undefined
  }
  let names = 0
  let isExact = true
  for (let at = 0; at < text.length; at++) {
    const code = text.charCodeAt(at)
    if (code === QUOTE) at = quotedEnd(text, at)
    else if (code === COLON) names++
    else if (code === MINUS || isDigit(code)) {
      const end = numberEnd(text, at)
      isExact &&= isDouble(text, at, end)
      at = end - 1
    }
  }
  return { value, names, isExact }
}

/** Where a number of valid JSON ends. */
function numberEnd(text: string, from: number): number {
  let at = from + 1
  for (let code = text.charCodeAt(at); isDigit(code) || IN_NUMBER.includes(code); code = text.charCodeAt(at)) at++
  return at
}

/** Whether a double has all of a number's digits. Whole ones of up to 15 digits it has, but for a zero with a sign. */
function isDouble(text: string, from: number, to: number): boolean {
  const isShort = to - from <= 15 && text.charCodeAt(from) !== MINUS
  let isWhole = isShort
  for (let at = from; isWhole && at < to; at++) isWhole = isDigit(text.charCodeAt(at))
  if (isWhole) return true
  const digits = text.slice(from, to)
  return String(Number(digits)) === digits
}

function isDigit(code: number): boolean {
  return code >= 0x30 && code <= 0x39
}

const QUOTE = 0x22
const COLON = 0x3a
const MINUS = 0x2d
/** `.`, `e`, `E`, `+`, `-`. */
const IN_NUMBER = [0x2e, 0x65, 0x45, 0x2b, MINUS]

function countMembers(value: Json): number {
  if (value === null || typeof value !== 'object') return 0
  const parts: Json[] = Array.isArray(value) ? value : Object.values(value)
  return parts.reduce((count: number, part) => count + countMembers(part), Array.isArray(value) ? 0 : parts.length)
}

function parseNumber(digits: string): number | RawJson {
  return String(Number(digits)) === digits ? Number(digits) : new RawJson(digits)
}

/** Prints a value as JSON, with `RawJson` written as it stands. `indent` is a number of spaces, 0 for one line. */
export function printJson(value: unknown, indent = 0): string {
  const before = met
  met = []
  try {
    // JavaScript's own printer is several times as fast as one written here could be.
    const text = JSON.stringify(value, null, indent) ?? 'null'
    return met.length === 0 ? text : filled(text, met)
  } finally {
    met = before
  }
}

/** The texts of all `RawJson` that the printing met so far, in their order; undefined while nothing is printed. */
let met: string[] | undefined

let place: string | undefined

/**
 * What the printer is given in place of each of them. It leaves the printing nowhere, so that no value can hold it. Made when it is first
 * needed, since a short program loads Node's cryptography for nothing else.
 */
function placeOfRaw(): string {
  return (place ??= [...crypto.getRandomValues(new Uint32Array(4))].map((part) => part.toString(36)).join('.'))
}

function filled(text: string, raws: readonly string[]): string {
  const [first = '', ...rest] = text.split(`"${placeOfRaw()}"`)
  return first + rest.map((part, at) => `${raws[at]}${part}`).join('')
}
