import { LedgermanProblem } from '@ledgerman/contract'

/** One term of an order: a property or a path to one, which way, and where nulls go. */
export interface OrderTerm {
  path: string[]
  descending: boolean
  nullsFirst: boolean
}

const MOST_TERMS = 8
const TERM =
  /^\s*([\p{L}_][\p{L}\p{N}_]*(?:\.[\p{L}_][\p{L}\p{N}_]*)*)(?:\s+(asc|desc))?(?:\s+nulls\s+(first|last))?\s*$/iu

/**
 * Reads an order such as `hoursLeft desc, lead.familyName`. As in SQL, nulls come last ascending and first descending where
 * nothing else is said.
 *
 * @throws LedgermanProblem request-invalid
 */
export function parseOrder(text: string): OrderTerm[] {
  const terms = text.trim() === '' ? [] : text.split(',').map(parseTerm)
  if (terms.length > MOST_TERMS)
    throw new LedgermanProblem('request-invalid', `order: expected at most ${MOST_TERMS} terms, got ${terms.length}.`, {
      where: 'order',
    })
  return terms
}

function parseTerm(text: string): OrderTerm {
  const found = TERM.exec(text)
  if (!found) {
    throw new LedgermanProblem(
      'request-invalid',
      `order: expected a property, then asc or desc, then nulls first or nulls last, got "${text.trim()}".`,
      { where: 'order' },
    )
  }
  const [, path = '', direction = 'asc', nulls] = found
  const descending = direction.toLowerCase() === 'desc'
  return {
    path: path.split('.'),
    descending,
    nullsFirst: nulls === undefined ? descending : nulls.toLowerCase() === 'first',
  }
}

/** Reads a list of properties such as `code,lead.familyName`. @throws LedgermanProblem request-invalid */
export function parseProperties(text: string): string[][] {
  const paths = text.split(',').map((each) => each.trim())
  const wrong = paths.find((path) => !/^[\p{L}_][\p{L}\p{N}_]*(\.[\p{L}_][\p{L}\p{N}_]*)*$/u.test(path))
  if (wrong !== undefined) {
    throw new LedgermanProblem(
      'request-invalid',
      `properties: expected names or paths of properties, such as code,lead.familyName, got "${wrong}".`,
      { where: 'properties' },
    )
  }
  return [...new Set(paths)].map((path) => path.split('.'))
}
