import { parseJson, printJson, type FindDefinition, type TransactionInfo } from '@ledgerman/contract'

/** What the fields of a transaction's parameters begin with: the values of its example of that place, from 0. */
export function exampleTexts({ definition }: TransactionInfo, at: number): Record<string, string> {
  const example = (definition.examples ?? [])[at] ?? {}
  return Object.fromEntries(
    Object.entries(definition.params ?? {}).map(([name, param]) => {
      const value = example[name] ?? param.default ?? ''
      return [name, typeof value === 'string' ? value : printJson(value)]
    }),
  )
}

/** What was typed, as values: lists and json are JSON, an empty field of a parameter that may be null is null. */
export function paramValues(
  params: FindDefinition['params'] = {},
  texts: Record<string, string>,
): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(params).map(([name, { type, nullable }]) => {
      const text = texts[name] ?? ''
      if (text === '' && nullable) return [name, null]
      return [name, /\[\]$|^jsonb?$/.test(type) ? parseJson(text) : text]
    }),
  )
}
