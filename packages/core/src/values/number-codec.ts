import { RawJson, type Json } from '@ledgerman/contract'
import type { ScalarType } from './codec.js'
import { canonicalNumber, shortestReal } from './decimal.js'
import { ValueError } from './value-error.js'

const INTEGER_LIMITS: Record<string, [bigint, bigint]> = {
  int2: [-32768n, 32767n],
  int4: [-2147483648n, 2147483647n],
  int8: [-9223372036854775808n, 9223372036854775807n],
}

export function integerToText(value: Json, type: ScalarType): string {
  const digits = numberDigits(value)
  const [least, most] = INTEGER_LIMITS[type.name] ?? [0n, 0n]
  if (digits === undefined || !isWhole(digits) || BigInt(digits) < least || BigInt(digits) > most) {
    throw new ValueError(`a whole number from ${least} to ${most}`)
  }
  return digits
}

export function bigintToText(value: Json): string {
  const digits = typeof value === 'string' ? value : numberDigits(value)
  const [least, most] = INTEGER_LIMITS['int8'] as [bigint, bigint]
  if (digits === undefined || !isWhole(digits) || BigInt(digits) < least || BigInt(digits) > most) {
    throw new ValueError(`a whole number from ${least} to ${most}, as a string of digits`)
  }
  return digits
}

/**
 * An exact number. More digits behind the point than the column keeps are refused rather than rounded away, since
 * PostgreSQL would round without a word.
 */
export function numericToText(value: Json, type: ScalarType): string {
  const digits = typeof value === 'string' ? value : numberDigits(value)
  const { precision } = type
  if (digits !== undefined && /^(NaN|-?Infinity)$/.test(digits)) {
    if (precision === null || digits === 'NaN') return digits
    throw new ValueError(`a number with at most ${precision.digits} digits; this column cannot hold infinity`)
  }
  const parts = digits === undefined ? null : /^([+-]?)(\d*)(?:\.(\d*))?(?:[eE]([+-]?\d{1,6}))?$/.exec(digits)
  if (digits === undefined || !parts || (parts[2] === '' && !parts[3])) {
    throw new ValueError('a number, as a string of digits such as "14.50"')
  }
  const { before, after } = digitsAroundPoint(parts[2] ?? '', parts[3] ?? '', Number(parts[4] ?? 0))
  if (precision !== null) {
    if (after > precision.scale) throw new ValueError(scaleLimit(precision.scale))
    // Of zero no digit counts, also where the scale leaves room for none.
    if (before > Math.max(0, precision.digits - precision.scale))
      throw new ValueError(sizeLimit(precision.digits - precision.scale))
  } else if (before > 131072 || after > 16383) {
    // PostgreSQL's documented limits of numeric.
    throw new ValueError('a number with at most 131072 digits before and 16383 behind the point')
  }
  return digits
}

/** Money is read and written as a numeric, since its own text form depends on the server's locale. */
export function moneyToText(value: Json): string {
  const digits = typeof value === 'string' ? value : numberDigits(value)
  if (digits === undefined || !/^[+-]?\d{1,17}(\.\d{1,2})?$/.test(digits)) {
    throw new ValueError('an amount with at most two digits behind the point, as a string such as "12.50"')
  }
  return digits
}

export function floatFromText(text: string): Json {
  if (/^(NaN|-?Infinity)$/.test(text)) return text
  return text === '-0' ? new RawJson(text) : Number(text)
}

export function floatToText(value: Json, type: ScalarType): string {
  if (typeof value === 'string' && /^(NaN|-?Infinity)$/.test(value)) return value
  const digits = numberDigits(value)
  const nearest = digits === undefined ? NaN : type.name === 'float4' ? Math.fround(Number(digits)) : Number(digits)
  if (
    digits === undefined ||
    !Number.isFinite(nearest) ||
    (nearest === 0 && /[1-9]/.test(digits.replace(/e.*/i, '')))
  ) {
    throw new ValueError('a number within the range of the column, or "NaN", "Infinity", "-Infinity"')
  }
  // PostgreSQL would store the nearest one it has without a word.
  const isReal = type.name === 'float4'
  const kept = isReal ? shortestReal(nearest) : String(nearest)
  if (!(isReal && Number(digits) === nearest) && canonicalNumber(kept) !== canonicalNumber(digits))
    throw new ValueError(`a number that the column can hold; the nearest is ${kept}`)
  return digits
}

/** The digits of a JSON number as written; undefined for anything else. */
function numberDigits(value: Json): string | undefined {
  if (typeof value === 'number') return Object.is(value, -0) ? '-0' : String(value)
  if (value instanceof RawJson && /^-?\d/.test(value.text)) return value.text
  return undefined
}

function isWhole(digits: string): boolean {
  return /^[+-]?\d{1,40}$/.test(digits) && !digits.startsWith('+')
}

/**
 * How many digits count before and behind the point once an exponent is applied; zeros at either end do not. Fewer than none
 * behind it are zeros before it: 1200 has -2.
 */
function digitsAroundPoint(whole: string, fraction: string, exponent: number): { before: number; after: number } {
  const all = whole + fraction
  const point = whole.length + exponent
  const first = all.search(/[1-9]/)
  if (first < 0) return { before: 0, after: -Infinity }
  let last = all.length
  while (all[last - 1] === '0') last--
  return { before: Math.max(0, point - first), after: last - point }
}

function scaleLimit(scale: number): string {
  if (scale < 0) return `a multiple of ${10n ** BigInt(-scale)}`
  return scale === 0 ? 'a whole number' : `at most ${scale} ${scale === 1 ? 'digit' : 'digits'} behind the point`
}

function sizeLimit(before: number): string {
  return before > 0 ? `at most ${before} ${before === 1 ? 'digit' : 'digits'} before the point` : 'a number below 1'
}
