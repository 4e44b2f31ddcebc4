import { LedgermanProblem, parseJson, suggestName, type TransactionInfo } from '@ledgerman/contract'

/** Reads name=value pairs. @throws LedgermanProblem request-invalid */
export function parseParams(pairs: readonly string[]): Record<string, string> {
  const params: Record<string, string> = {}
  for (const pair of pairs) {
    const at = pair.indexOf('=')
    if (at < 1)
      throw new LedgermanProblem('request-invalid', `"${pair}": expected name=value, such as hours=4.`, {
        where: pair,
      })
    const name = pair.slice(0, at)
    if (Object.hasOwn(params, name)) throw givenTwice(name)
    params[name] = pair.slice(at + 1)
  }
  return params
}

/** The problem for a name with two values: which one is meant, nobody can tell. */
export function givenTwice(name: string): LedgermanProblem {
  return new LedgermanProblem('request-invalid', `${name} is given twice. Say once what it is.`, { where: name })
}

/** A parameter of an array or json type is JSON on the command line; every other one is text, which the service reads as its type. */
export function typedParams(
  types: Readonly<Record<string, string | { type: string }>>,
  params: Record<string, string>,
): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(params).map(([name, text]) => {
      const declared = types[name] ?? 'text'
      const type = typeof declared === 'string' ? declared : declared.type
      if (!/\[\]$|^jsonb?$/.test(type)) return [name, text]
      try {
        return [name, parseJson(text)]
      } catch {
        throw new LedgermanProblem(
          'value-invalid',
          `${name}: expected ${type} as JSON, such as ["P-107","P-112"], got ${text}.`,
          { where: name },
        )
      }
    }),
  )
}

/** The parameters of a transaction: those of an example, where one is asked for, and over them the pairs. @throws LedgermanProblem */
export function paramsOf(
  transaction: TransactionInfo,
  pairs: readonly string[],
  example: string | undefined,
): Record<string, unknown> {
  const given = example === undefined ? {} : exampleOf(transaction, example)
  return { ...given, ...typedParams(transaction.definition.params ?? {}, parseParams(pairs)) }
}

/** The parameters of one of a transaction's examples, counted from 1. @throws LedgermanProblem request-invalid */
function exampleOf({ name, definition: { examples = [] } }: TransactionInfo, number: string): Record<string, unknown> {
  const example = examples[Number(number) - 1]
  if (example) return example
  const known = examples.map((_, at) => String(at + 1))
  throw new LedgermanProblem('request-invalid', `${name} has no example ${number}. ${suggestName(number, known)}`, {
    where: 'example',
  })
}
