import { ValueInvalid } from './errors.js'

/** A value of a record out of PostgreSQL's text. */
export type Read = (text: string) => unknown

/** A value as PostgreSQL reads it. @throws ValueInvalid */
export type Write = (value: unknown, property: string) => string

/** A value of a record, of the type that its property has. */
export function read<T>(reader: Read, text: string | null | undefined): T {
  return (text === null || text === undefined ? null : reader(text)) as T
}

export function writeValue(write: Write, value: unknown, property: string): string | null {
  return value === null || value === undefined ? null : write(value, property)
}

/** A part of a key as PostgreSQL reads it. @throws ValueInvalid */
export function writeKey(write: Write, value: unknown, property: string): string {
  if (value === null || value === undefined) throw new ValueInvalid(property, 'a value: it is part of the key')
  return write(value, property)
}

export const readText: Read = (text) => text

/** NaN and the infinities stay texts: JSON has none of them. */
export const readNumber: Read = (text) => {
  const number = Number(text)
  return Number.isFinite(number) ? number : text
}

export const readBoolean: Read = (text) => text === 't' || text === 'true'

export const readTimestamp: Read = (text) => (text.endsWith('BC') ? text.replace('T', ' ') : text.replace(' ', 'T'))

export const readTimestamptz: Read = (text) =>
  text.endsWith('BC') ? text : text.replace(' ', 'T').replace(/\+00(:00)?$/, 'Z')
export const readBytes: Read = (text) => Buffer.from(text.slice(2), 'hex').toString('base64')

/** The text that a json value was read from: its numbers may have digits that JavaScript's do not hold. */
const jsonSources = new WeakMap<object, string>()

/** A JSON null differs from no value at all: it comes, and goes, as `{ "ledgerman:json": null }`. */
export const readJson: Read = (text) => {
  const value: unknown = JSON.parse(text)
  const read = value === null || isEnvelope(value) ? { 'ledgerman:json': value } : value
  if (typeof read === 'object' && read !== null) jsonSources.set(read, text)
  return read
}

function isEnvelope(value: unknown): value is { 'ledgerman:json': unknown } {
  return value !== null && typeof value === 'object' && Object.hasOwn(value, 'ledgerman:json')
}

/** PostgreSQL's text form of an array ("Array Input and Output Syntax"). */
export function readArray(read: Read, delimiter: string): Read {
  return (text) => {
    let at = text.indexOf('{')
    const item = (): unknown => {
      if (text[at] === '{') return list()
      if (text[at] !== '"') {
        const start = at
        while (at < text.length && text[at] !== delimiter && text[at] !== '}') at++
        const bare = text.slice(start, at)
        return bare === 'NULL' ? null : read(bare)
      }
      let quoted = ''
      for (at++; at < text.length && text[at] !== '"'; at++) {
        if (text[at] === '\\') at++
        quoted += text[at] ?? ''
      }
      at++
      return read(quoted)
    }
    const list = (): unknown[] => {
      const items: unknown[] = []
      at++
      while (at < text.length && text[at] !== '}') {
        items.push(item())
        if (text[at] === delimiter) at++
      }
      at++
      return items
    }
    return list()
  }
}

export function writeText(longest: number | null): Write {
  return (value, property) => {
    if (typeof value !== 'string' || value.includes('\0')) throw new ValueInvalid(property, 'a text')
    if (longest !== null && [...value].length > longest)
      throw new ValueInvalid(property, `at most ${longest} ${longest === 1 ? 'character' : 'characters'}`)
    return value
  }
}

/** A whole number; as a text where it can be larger than a number holds exactly. */
export function writeWhole(least: bigint, most: bigint, mayBeText: boolean): Write {
  const [first, last] = [Number(least), Number(most)]
  return (value, property) => {
    if (Number.isSafeInteger(value) && (value as number) >= first && (value as number) <= last) return String(value)
    const digits = typeof value === 'number' || (mayBeText && typeof value === 'string') ? String(value) : ''
    const whole = /^-?\d{1,20}$/.test(digits) ? BigInt(digits) : null
    if (whole === null || whole < least || whole > most)
      throw new ValueInvalid(property, `a whole number from ${least} to ${most}`)
    return digits
  }
}

/** An exact number: more digits than the column keeps are refused, not rounded away. */
export function writeNumeric(digits: number | null, scale: number | null): Write {
  const usual = usualNumeric(digits, scale)
  return (value, property) => {
    const text = typeof value === 'number' || typeof value === 'string' ? String(value) : ''
    if (usual?.test(text)) return text
    if (text === 'NaN' || (scale === null && /^-?Infinity$/.test(text))) return text
    const parts = /^[+-]?(\d*)(?:\.(\d*))?(?:[eE]([+-]?\d{1,5}))?$/.exec(text)
    const [, whole = '', fraction = '', exponent = '0'] = parts ?? []
    const all = whole + fraction
    if (!parts || all === '') throw new ValueInvalid(property, 'a number, as a string of digits such as "14.50"')
    const point = whole.length + Number(exponent)
    const first = all.search(/[1-9]/)
    const before = first < 0 ? 0 : Math.max(0, point - first)
    const after = first < 0 ? 0 : all.replace(/(?<!0)0+$/, '').length - point
    if (scale !== null && after > scale)
      throw new ValueInvalid(property, `at most ${scale} ${scale === 1 ? 'digit' : 'digits'} behind the point`)
    if (digits !== null && scale !== null && before > Math.max(0, digits - scale))
      throw new ValueInvalid(
        property,
        `at most ${digits - scale} ${digits - scale === 1 ? 'digit' : 'digits'} before the point`,
      )
    return text
  }
}

/** How most are written that fit, which is seen at once. */
function usualNumeric(digits: number | null, scale: number | null): RegExp | undefined {
  if (digits === null || scale === null) return /^-?\d+(?:\.\d+)?$/
  if (scale < 1 || scale >= digits) return undefined
  return new RegExp(`^-?\\d{1,${digits - scale}}(?:\\.\\d{1,${scale}})?$`)
}

export const writeFloat: Write = (value, property) => {
  if (typeof value === 'number') return Object.is(value, -0) ? '-0' : String(value)
  if (typeof value === 'string' && /^(NaN|-?Infinity)$/.test(value)) return value
  throw new ValueInvalid(property, 'a number, or "NaN", "Infinity", "-Infinity"')
}

export const writeBoolean: Write = (value, property) => {
  if (typeof value !== 'boolean') throw new ValueInvalid(property, 'true or false')
  return value ? 't' : 'f'
}

export function writeOneOf(labels: readonly string[]): Write {
  return (value, property) => {
    if (typeof value !== 'string' || !labels.includes(value))
      throw new ValueInvalid(property, `one of ${labels.map((label) => JSON.stringify(label)).join(', ')}`)
    return value
  }
}

/** A value that was read, and not touched since, is written as it was, to the last digit. */
export const writeJson: Write = (value) => {
  const text = jsonText(value)
  const source = typeof value === 'object' && value !== null ? jsonSources.get(value) : undefined
  return source !== undefined && jsonText(readJson(source)) === text ? source : text
}

function jsonText(value: unknown): string {
  return JSON.stringify(isEnvelope(value) && Object.keys(value).length === 1 ? value['ledgerman:json'] : value)
}

export const writeBytes: Write = (value, property) => {
  const bytes = typeof value === 'string' ? Buffer.from(value, 'base64') : undefined
  if (bytes === undefined || bytes.toString('base64') !== value) throw new ValueInvalid(property, 'bytes as base64')
  return `\\x${bytes.toString('hex')}`
}

export function writeArray(write: Write, delimiter: string, holdsJson: boolean): Write {
  const list = (items: readonly unknown[], property: string): string => {
    const parts = items.map((item) => {
      if (item === null) return 'NULL'
      if (Array.isArray(item) && !holdsJson) return list(item, property)
      return `"${write(item, property).replace(/["\\]/g, '\\$&')}"`
    })
    return `{${parts.join(delimiter)}}`
  }
  return (value, property) => {
    if (!Array.isArray(value)) throw new ValueInvalid(property, 'an array')
    return list(value, property)
  }
}
