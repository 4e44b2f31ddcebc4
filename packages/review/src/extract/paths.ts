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
export const BLOCKS = /block|body|compound_statement|statement_list|^program$|^module$|clause|group|section/

/** The arm that a part of a branch is, where it is one. */
export function armOf(node: Node, child: Node): Arm | undefined {
  if (!CHOICES.test(node.type)) return undefined
  const isAlternative = node.childForFieldName('alternative')?.id === child.id
  const isConsequence = ['consequence', 'body'].some((field) => node.childForFieldName(field)?.id === child.id)
  return isAlternative || isConsequence || WAYS.test(child.type)
    ? { branch: node.startIndex, way: child.startIndex }
    : undefined
}

/** Whether a block, or the clause that has one, ends with a return, a throw or a break. */
export function endsIn(clause: Node): boolean {
  let block: Node | null = clause
  for (let depth = 0; block && depth < 5; depth++) {
    if (ENDS.test(block.type)) return true
    block = block.namedChildren.findLast((child) => child !== null && child.type !== 'comment') ?? null
  }
  return false
}

/** The blocks of one tree, each read once. */
export class Paths {
  /** Where the last return, throw or break of a block begins; -1 where it has none. */
  readonly #lastEnds = new Map<number, number>()

  /** Whether a return, a throw or a break follows in the block that a call stands in. */
  isEnded(call: Node): boolean {
    let statement = call
    for (let depth = 0; statement.parent && !BLOCKS.test(statement.parent.type); depth++) {
      if (ENDS.test(statement.type)) return true
      if (depth > 20 || FUNCTIONS.test(statement.type)) return false
      statement = statement.parent
    }
    if (ENDS.test(statement.type)) return true
    return statement.parent !== null && this.#lastEndOf(statement.parent) > statement.startIndex
  }

  #lastEndOf(block: Node): number {
    let last = this.#lastEnds.get(block.id)
    if (last === undefined) {
      last = block.namedChildren.findLast((child) => child !== null && ENDS.test(child.type))?.startIndex ?? -1
      this.#lastEnds.set(block.id, last)
    }
    return last
  }
}

interface Placed {
  arms: readonly Arm[]
  endsPath: boolean
  at: number
}

/** Whether of two places in a function only one is reached in one call. */
export function areExclusive(one: Placed, other: Placed): boolean {
  const [first, second] = one.at < other.at ? [one, other] : [other, one]
  // Both paths go the same ways down to where they part.
  let parting = 0
  while (parting < first.arms.length && first.arms[parting]?.way === second.arms[parting]?.way) parting++
  if (parting < first.arms.length && first.arms[parting]?.branch === second.arms[parting]?.branch) return true
  // What stands in an arm that ends with a return is not gone on from.
  return first.endsPath && parting < first.arms.length
}
