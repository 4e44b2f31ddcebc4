import { LedgermanProblem, printJson, RawJson } from '@ledgerman/contract'

/** Why a JSON value cannot be held by a column: what was expected. The caller knows the property and adds it. */
export class ValueError extends Error {
  override readonly name = 'ValueError'

  constructor(readonly expected: string) {
    super(`expected ${expected}`)
  }
}

/** The problem for a property whose value cannot be held: what, wanted, got; a sensitive value is not repeated. */
export function toValueProblem(
  place: { property: string; mapping: string; type: string; sensitive: boolean },
  expected: string,
  got?: unknown,
): LedgermanProblem {
  const shown =
    got === undefined ? '' : place.sensitive ? ', got a value that is not shown' : `, got ${describeValue(got)}`
  return new LedgermanProblem('value-invalid', `${place.property}: expected ${expected}${shown}.`, {
    where: place.property,
    mapping: place.mapping,
    properties: [place.property],
    columnType: place.type,
    expected,
  })
}

/** A value and its JSON kind, cut to a readable length: `"soon" (string)`. */
export function describeValue(value: unknown): string {
  const text = printJson(value)
  return `${text.length > 60 ? `${text.slice(0, 57)}…` : text}${kindNote(value)}`
}

function kindNote(value: unknown): string {
  if (value === null) return ''
  if (Array.isArray(value)) return ' (array)'
  return ` (${value instanceof RawJson ? 'number' : typeof value})`
}
