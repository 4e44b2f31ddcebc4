import type { Node } from 'web-tree-sitter'
import type { Result } from './facts.js'
import { calledOf } from './text-of.js'

const HOLDS =
  /^(assignment|augmented_assignment|assignment_expression|augmented_assignment_expression|variable_declarator|property_element|public_field_definition|field_definition|resource|with_item|as_pattern)$/
const WRAPS =
  /^(await_expression|await|parenthesized_expression|cast_expression|non_null_expression|equals_value_clause)$/
const NAMES = /^(identifier|variable_name|simple_identifier)$/
const ENDS = /^(expression_statement|program|module|block|statement_block|compound_statement)$/

const IS_FUNCTION = /function|lambda/

/** The variable, or the pattern of variables, that a call's result goes into. */
function targetOf(node: Node): Node | null | undefined {
  for (let at = node.parent, depth = 0; at && depth < 6; at = at.parent, depth++) {
    if (HOLDS.test(at.type))
      return (
        at.childForFieldName('left') ??
        at.childForFieldName('name') ??
        at.childForFieldName('alias') ??
        at.namedChildren[0]
      )
    if (!WRAPS.test(at.type)) return undefined
  }
  return undefined
}

/** The variable that a call's result goes into. */
export function assignedTo(node: Node): string | undefined {
  return targetOf(node)?.text
}

/** Whether a call is a statement of its own, which nothing waits for; one that is given a function goes on there. */
export function isDroppedAt(node: Node): boolean {
  return node.parent?.type === 'expression_statement' && !calledOf(node).args.some(({ type }) => IS_FUNCTION.test(type))
}

/** Where the result of a call goes. */
export function resultOf(node: Node): Result {
  const target = targetOf(node)
  if (target)
    return NAMES.test(target.type)
      ? { to: 'variable', name: target.text }
      : /pattern|tuple|list/.test(target.type)
        ? { to: 'pattern', text: target.text, at: target.startIndex, end: target.endIndex }
        : { to: 'elsewhere' }
  let from: Node = node
  for (let at = node.parent; at; from = at, at = at.parent) {
    if (WRAPS.test(at.type)) continue
    // `.then(() => …)` goes on without looking at it.
    if (at.type === 'member_expression' && /\.then$/.test(at.text)) {
      const [next] = at.parent ? calledOf(at.parent).args : []
      if (next?.type === 'arrow_function' && /^(async\s*)?\(\s*\)/.test(next.text)) return { to: 'nowhere' }
    }
    if (at.type === 'arrow_function' && at.childForFieldName('body')?.id === from.id) return { to: 'elsewhere' }
    return { to: ENDS.test(at.type) ? 'nowhere' : 'elsewhere' }
  }
  return { to: 'nowhere' }
}
