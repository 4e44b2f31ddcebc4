import { LedgermanProblem, parseJson, printJson, type FindDefinition, type TransactionInfo } from '@ledgerman/contract'

/** What the fields of a transaction's parameters begin with: the values of its example of that place, from 0. */
export function exampleTexts({ definition }: TransactionInfo, at: number): Record<string, string> {
  const example = (definition.examples ?? [])[at] ?? {}
  return Object.fromEntries(
    Object.entries(definition.params ?? {}).map(([name, param]) => {
      // An example that says null means it, whatever the default is.
      const value = (Object.hasOwn(example, name) ? example[name] : param.default) ?? null
      if (value === null) return [name, '']
      return [name, typeof value === 'string' && !isJson(param.type) ? value : printJson(value)]
    }),
  )
}

/**
 * What was typed, as values: lists and json are JSON, an empty field of a parameter that may be null is null.
 *
 * @throws LedgermanProblem value-invalid for what is no JSON
 */
export function paramValues(
  params: FindDefinition['params'] = {},
  texts: Record<string, string>,
): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(params).map(([name, { type, nullable }]) => {
      const text = texts[name] ?? ''
      if (text === '' && nullable) return [name, null]
      return [name, isJson(type) ? readJson(name, type, text) : text]
    }),
  )
}

function readJson(name: string, type: string, text: string): unknown {
  try {
    return parseJson(text)
  } catch (error) {
    const expected = type.endsWith('[]') ? 'a JSON array, such as ["imaging"]' : 'JSON'
    throw new LedgermanProblem(
      'value-invalid',
      `${name}: expected ${expected}. ${error instanceof Error ? error.message : String(error)}.`,
      { where: `params.${name}` },
    )
  }
}

/** Whether a parameter's value is typed as JSON. */
function isJson(type: string): boolean {
  return /\[\]$|^jsonb?$/.test(type)
}
