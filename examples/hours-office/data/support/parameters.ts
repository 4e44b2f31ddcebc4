// Written by Ledgerman: parameters, and what is judged of them here.
import type { Row } from './ask.js'
import { RuleBroken, ValueInvalid } from './errors.js'

/** That nothing is given but parameters of these names. @throws ValueInvalid */
export function assertNames(params: object, known: readonly string[]): void {
  for (const name of Object.keys(params))
    if (!known.includes(name))
      throw new ValueInvalid(name, known.length > 0 ? `one of ${known.join(', ')}` : 'no parameter')
}

/** A parameter that has to be given. @throws ValueInvalid */
export function given(text: string | null, name: string): string {
  if (text === null) throw new ValueInvalid(name, 'a value')
  return text
}

/** @throws RuleBroken where a parameter breaks its rule */
export function assertParam(holds: boolean, name: string, rule: string): void {
  if (!holds) throw new RuleBroken(`The parameter :${name} breaks its rule: ${rule}.`, rule)
}

/** The same for all parameters, judged by the database. */
export function assertParams(rows: readonly Row[], rules: readonly (readonly [name: string, rule: string])[]): void {
  rules.forEach(([name, rule], at) => assertParam(rows[0]?.[at] === 't', name, rule))
}

/** Whether two exact numbers, in PostgreSQL's text form, compare so. Without one of them nothing is true of both. */
export function numbersAre(
  one: string | null,
  operator: '=' | '<>' | '<' | '<=' | '>' | '>=',
  other: string | null,
): boolean {
  if (one === null || other === null) return false
  const order = compareNumbers(one, other)
  if (operator === '<>') return order !== 0
  return (
    (order === 0 && operator.includes('=')) ||
    (order < 0 && operator.startsWith('<')) ||
    (order > 0 && operator.startsWith('>'))
  )
}

/** Below 0, 0 or above: of numeric, NaN is the same as itself and above all else (PostgreSQL, "Arbitrary Precision Numbers"). */
function compareNumbers(one: string, other: string): number {
  if (isShort(one) && isShort(other)) return Number(one) - Number(other)
  const [left, right] = [rankOf(one), rankOf(other)]
  if (left !== right || left !== 0) return left - right
  const [first, second] = [decimalOf(one), decimalOf(other)]
  const scale = first.scale > second.scale ? first.scale : second.scale
  const difference = first.digits * 10n ** (scale - first.scale) - second.digits * 10n ** (scale - second.scale)
  return difference === 0n ? 0 : difference < 0n ? -1 : 1
}

/** Whether it has at most 15 digits: of those no two are the same double (IEEE 754, binary64), so that doubles compare as they do. */
function isShort(text: string): boolean {
  return text.length <= 15 && /^-?\d+(?:\.\d+)?$/.test(text)
}

function rankOf(text: string): number {
  return { NaN: 2, Infinity: 1, '-Infinity': -1 }[text] ?? 0
}

function decimalOf(text: string): { digits: bigint; scale: bigint } {
  const [, sign, whole = '', fraction = '', exponent = '0'] =
    /^([+-]?)(\d*)(?:\.(\d*))?(?:[eE]([+-]?\d+))?$/.exec(text) ?? []
  const digits = BigInt(`0${whole}${fraction}`)
  return { digits: sign === '-' ? -digits : digits, scale: BigInt(fraction.length) - BigInt(exponent) }
}

/** Whether two texts are the same, or not. Without one of them nothing is true of both. */
export function textsAre(one: string | null, operator: '=' | '<>', other: string | null): boolean {
  return one !== null && other !== null && (one === other) === (operator === '=')
}
