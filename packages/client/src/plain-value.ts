import { LedgermanProblem, RawJson } from '@ledgerman/contract'

/**
 * What JSON carries of a value, as a copy: dates and the like by their `toJSON`, bigint digit by digit, the floats that JSON
 * does not know as the strings the service takes for them. In objects, members that are undefined are left out, as in JSON.
 *
 * @param property where the value stands, for the message; empty for a whole body
 * @throws LedgermanProblem value-invalid for what would be lost on the way: undefined, functions, maps, sets, bytes
 */
export function toPlain(property: string, value: unknown): unknown {
  if (typeof value === 'bigint') return new RawJson(String(value))
  if (Object.is(value, -0)) return new RawJson('-0')
  if (typeof value === 'number') return Number.isFinite(value) ? value : String(value)
  if (value === null || typeof value === 'string' || typeof value === 'boolean' || value instanceof RawJson)
    return value
  if (typeof value !== 'object') throw notPlain(property, typeof value)
  if (Array.isArray(value)) return value.map((each, at) => toPlain(within(property, at + 1), each))
  if ('toJSON' in value && typeof value.toJSON === 'function' && !(value instanceof Uint8Array))
    return toPlain(property, (value.toJSON as () => unknown)())
  const prototype: unknown = Object.getPrototypeOf(value)
  if (prototype !== null && prototype !== Object.prototype) throw notPlain(property, value.constructor.name)
  const members = Object.entries(value).filter(([, each]) => each !== undefined)
  return Object.fromEntries(members.map(([name, each]) => [name, toPlain(within(property, name), each)]))
}

function within(property: string, part: string | number): string {
  return property === '' ? String(part) : `${property}.${part}`
}

function notPlain(property: string, got: string): LedgermanProblem {
  const advice = got === 'undefined' ? ' Assign null to empty it.' : ''
  return new LedgermanProblem(
    'value-invalid',
    `${property || 'The body'}: expected a value that JSON can carry, got ${got}.${advice}`,
    {
      where: property,
    },
  )
}
