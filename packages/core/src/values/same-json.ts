import { parsePrinted, printJson, RawJson, type Json } from '@ledgerman/contract'
import { canonicalNumber } from './decimal.js'

/** Equality as RFC 6902, section 4.6, has it: numbers by value, to the last digit, and objects whatever their order. */
export function isSameJson(one: Json, other: Json): boolean {
  return canonical(one) === canonical(other)
}

function canonical(value: Json): string {
  const opened = value instanceof RawJson && !/^-?\d/.test(value.text) ? parsePrinted(value.text) : value
  if (opened instanceof RawJson || typeof opened === 'number')
    return canonicalNumber(opened instanceof RawJson ? opened.text : String(opened))
  if (Array.isArray(opened)) return `[${opened.map(canonical).join(',')}]`
  if (opened === null || typeof opened !== 'object') return printJson(opened)
  const names = Object.keys(opened).sort()
  return `{${names.map((name) => `${JSON.stringify(name)}:${canonical(opened[name] as Json)}`).join(',')}}`
}
