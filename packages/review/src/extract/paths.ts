import type { Node } from 'web-tree-sitter'

/** One of the ways that a branch can go: the place of the branch in the file, and that of the way. */
export interface Arm {
  branch: number
  way: number
}

const CHOICES =
  /^(if_statement|switch_statement|switch_expression|switch_body|switch_block|match_statement|try_statement|conditional_expression|ternary_expression)$/
const WAYS =
  /^(else_clause|elif_clause|else_if_clause|switch_case|switch_default|switch_block_statement_group|switch_rule|switch_section|case_statement|default_statement|case_clause|catch_clause|except_clause)$/
const ENDS = /^(return_statement|throw_statement|raise_statement|break_statement|throw_expression|exit_statement)$/
const FUNCTIONS = /function|lambda|method/
const BLOCKS = /block|body|compound_statement|statement_list|^program$|^module$|clause|group|section/

/** The arm that a part of a branch is, where it is one. */
export function armOf(node: Node, child: Node): Arm | undefined {
  if (!CHOICES.test(node.type)) return undefined
  const isAlternative = node.childForFieldName('alternative')?.id === child.id
  const isConsequence = ['consequence', 'body'].some((field) => node.childForFieldName(field)?.id === child.id)
  return isAlternative || isConsequence || WAYS.test(child.type)
    ? { branch: node.startIndex, way: child.startIndex }
    : undefined
}

/** Whether a return, a throw or a break follows in the block that a call stands in. */
export function endsPath(call: Node): boolean {
  let statement = call
  for (let depth = 0; statement.parent && !BLOCKS.test(statement.parent.type); depth++) {
    if (ENDS.test(statement.type)) return true
    if (depth > 20 || FUNCTIONS.test(statement.type)) return false
    statement = statement.parent
  }
  if (ENDS.test(statement.type)) return true
  for (let next = statement.nextNamedSibling; next; next = next.nextNamedSibling) if (ENDS.test(next.type)) return true
  return false
}

interface Placed {
  arms: readonly Arm[]
  endsPath: boolean
  at: number
}

/** Whether of two places in a function only one is reached in one call. */
export function areExclusive(one: Placed, other: Placed): boolean {
  const isApart = one.arms.some(({ branch, way }) => other.arms.some((arm) => arm.branch === branch && arm.way !== way))
  if (isApart) return true
  const [first, second] = one.at < other.at ? [one, other] : [other, one]
  // What stands in an arm that ends with a return is not gone on from.
  return first.endsPath && first.arms.some(({ way }) => !second.arms.some((arm) => arm.way === way))
}
