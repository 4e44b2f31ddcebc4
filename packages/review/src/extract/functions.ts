import type { Node } from 'web-tree-sitter'
import type { SourceLanguage } from './grammar.js'

/** What the grammars call a function. */
export const FUNCTIONS = new Set([
  'function_declaration',
  'function_expression',
  'arrow_function',
  'method_definition',
  'generator_function_declaration',
  'function_definition',
  'method_declaration',
  'constructor_declaration',
  'local_function_statement',
  'lambda_expression',
  'anonymous_function',
  'anonymous_function_creation_expression',
  'lambda',
])

/** Parameters that can only be numbers, in languages that see to it when the program runs. */
export function numbersAmong(node: Node, language: SourceLanguage): string[] {
  if (!/^(php|java|csharp)$/.test(language)) return []
  const parameters = node.childForFieldName('parameters')?.namedChildren ?? []
  return parameters.flatMap((parameter) => {
    const type = parameter?.childForFieldName('type')?.text ?? ''
    const name = parameter?.childForFieldName('name')?.text
    return name && /^\??(int|long|short|byte|float|double|decimal|bool|boolean|Integer|Long|Short)\??$/.test(type)
      ? [name]
      : []
  })
}

/** What a function is called: by itself, or by what it is assigned to. */
export function nameOf(node: Node): string | undefined {
  const own = node.childForFieldName('name')?.text
  if (own !== undefined) return own
  const held = ['name', 'key', 'left', 'property'].map((field) => node.parent?.childForFieldName(field)?.text)
  return /(?<![$\w])[$\w]+$/.exec(held.find((each) => each !== undefined) ?? '')?.[0]
}
