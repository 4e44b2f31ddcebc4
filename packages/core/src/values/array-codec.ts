import { quotedEnd, type Json } from '@ledgerman/contract'
import type { ElementType } from './column-type.js'
import { codecOf } from './scalar-codecs.js'
import { ValueError } from './value-error.js'

/** PostgreSQL's own limit of an array's dimensions (MAXDIM). */
const MOST_DIMENSIONS = 6

/**
 * Reads PostgreSQL's text form of an array (documented under "Array Input and Output Syntax") into nested JSON arrays. Every text has
 * an end here, whatever it holds.
 *
 * @throws ValueError where a lower bound is not 1, and for a text that is no array.
 */
export function arrayFromText(text: string, element: ElementType): Json {
  if (text.startsWith('['))
    throw new ValueError(`an array whose lower bounds are 1; this one is ${text.slice(0, text.indexOf('='))}`)
  // A JSON array inside json[] cannot be told from a second dimension.
  if (holdsJson(element) && /^\{\{/.test(text)) throw new ValueError(`an array of ${element.sql} with one dimension`)
  const codec = codecOf(element.kind)
  let at = 0
  const items = readArray(1)
  if (at !== text.length) throw notAnArray()
  return items

  function readArray(depth: number): Json[] {
    const read: Json[] = []
    if (text[at] !== '{' || depth > MOST_DIMENSIONS) throw notAnArray()
    at++
    if (text[at] === '}') {
      at++
      return read
    }
    for (;;) {
      read.push(readItem(depth))
      const sign = text[at++]
      if (sign === '}') return read
      if (sign !== element.delimiter) throw notAnArray()
    }
  }

  function readItem(depth: number): Json {
    if (text[at] === '{') return readArray(depth + 1)
    if (text[at] === '"') return codec.fromText(readQuoted(), element)
    return readBare()
  }

  function readQuoted(): string {
    const end = quotedEnd(text, at)
    if (end < 0) throw notAnArray()
    const item = text.slice(at + 1, end)
    at = end + 1
    return item.includes('\\') ? item.replace(/\\([\s\S])/g, '$1') : item
  }

  function readBare(): Json {
    const start = at
    while (at < text.length && text[at] !== element.delimiter && text[at] !== '}') at++
    const item = text.slice(start, at)
    return item === 'NULL' ? null : codec.fromText(item, element)
  }

  function notAnArray(): ValueError {
    return new ValueError(`an array of ${element.sql} as PostgreSQL writes it`)
  }
}

/**
 * Writes nested JSON arrays in PostgreSQL's text form.
 *
 * @throws ValueError for anything but an array, for nested arrays of unequal length, and for nested empty ones, which
 *   PostgreSQL would fold into one.
 */
export function arrayToText(value: Json, element: ElementType): string {
  if (!Array.isArray(value)) throw new ValueError(`an array of ${element.sql}`)
  const shape = holdsJson(element) ? [value.length] : shapeOf(value)
  if (shape.length > MOST_DIMENSIONS) throw new ValueError(`an array of at most ${MOST_DIMENSIONS} dimensions`)
  return writeArray(value, shape)

  function writeArray(items: Json[], [length, ...inner]: number[]): string {
    if (items.length !== length) throw new ValueError('nested arrays of equal length')
    const parts = items.map((item) => {
      if (inner.length === 0) return item === null ? 'NULL' : quote(itemToText(item))
      if (!Array.isArray(item)) throw new ValueError('nested arrays of equal depth')
      return writeArray(item, inner)
    })
    return `{${parts.join(element.delimiter)}}`
  }

  function itemToText(item: Json): string {
    try {
      return codecOf(element.kind).toText(item, element)
    } catch (error) {
      if (error instanceof ValueError) throw new ValueError(`each element to be ${error.expected}`)
      throw error
    }
  }
}

function holdsJson(element: ElementType): boolean {
  return element.kind === 'json' || element.kind === 'jsonb'
}

function shapeOf(items: Json[]): number[] {
  const shape = [items.length]
  for (let first = items[0]; Array.isArray(first) && shape.length <= MOST_DIMENSIONS; first = first[0]) {
    if (first.length === 0) throw new ValueError('no empty array inside another')
    shape.push(first.length)
  }
  return shape
}

function quote(text: string): string {
  return `"${text.replace(/["\\]/g, '\\$&')}"`
}
