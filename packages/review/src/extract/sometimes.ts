import type { Node, Tree } from 'web-tree-sitter'
import type { Part, Place } from './facts.js'
import { FUNCTIONS } from './functions.js'
import { BLOCKS, endsIn } from './paths.js'

const IFS = /^(if_statement|elif_clause|else_if_clause)$/
const CASES = /^(switch_case|switch_block_statement_group|switch_rule|switch_section|case_statement|case_clause)$/
const ROUNDS = /^(for_statement|for_in_statement|while_statement|enhanced_for_statement|foreach_statement)$/

/** How many blocks around it are looked at. */
const MOST_AROUND = 50

/** These parts as such that are there on some ways through the program only. */
export function asSometimes(parts: readonly Part[]): Part[] {
  return parts.map((part) => ({ ...part, sometimes: true }))
}

/**
 * Whether what is added to a text here is left out on some ways that go on with it: in an `if` whose other side does not end, in a
 * case, or in a loop, which may have no round.
 *
 * @param before the text as it was: where it was put together in the same arm, the two belong together
 */
export function isSometimes(node: Node, before: readonly Part[]): boolean {
  const [first] = before
  if (!first) return false
  let child = node
  for (
    let at = node.parent, depth = 0;
    at && !FUNCTIONS.has(at.type) && depth < MOST_AROUND;
    child = at, at = at.parent, depth++
  ) {
    if (holds(at, first.place)) return false
    if (CASES.test(at.type)) return true
    if (ROUNDS.test(at.type) && at.childForFieldName('body')?.id === child.id) {
      if (!isGuarded(at, listOf(at))) return true
      continue
    }
    const condition = at.childForFieldName('condition')
    if (!IFS.test(at.type) || condition?.id === child.id || isGuarded(at, condition)) continue
    const alternative = at.childForFieldName('alternative')
    const other =
      alternative?.id === child.id ? (at.childForFieldName('consequence') ?? at.childForFieldName('body')) : alternative
    if (!other || !endsIn(other)) return true
  }
  return false
}

/** What a loop goes through. */
function listOf(loop: Node): Node | null {
  return loop.childForFieldName('right') ?? loop.childForFieldName('value') ?? loop.childForFieldName('condition')
}

/** How many such statements before it are looked at. */
const MOST_BEFORE = 50

/**
 * Whether a statement before it ends the function, or the round, by a condition of the same names: what it asks is known to be so, as
 * far as one can see.
 */
export function isGuarded(node: Node, condition: Node | null): boolean {
  const { isGuarded: known } = knownOf(node)
  let is = known.get(node.id)
  if (is === undefined) known.set(node.id, (is = findGuard(node, namesIn(condition))))
  return is
}

function findGuard(node: Node, names: ReadonlySet<string>): boolean {
  if (names.size === 0) return false
  let child = node
  for (let at = node.parent, around = 0; at && around < MOST_AROUND; child = at, at = at.parent, around++) {
    if (BLOCKS.test(at.type)) {
      const before = guardsOf(at).filter(({ end }) => end <= child.startIndex)
      if (before.slice(-MOST_BEFORE).some((guard) => [...names].every((name) => guard.names.has(name)))) return true
    }
    if (FUNCTIONS.has(at.type)) return false
  }
  return false
}

/** A statement that goes no further where a condition holds. */
interface Guard {
  end: number
  names: Set<string>
}

/** What is known of a tree's blocks, and of its branches, each looked at once. */
interface Known {
  guards: Map<number, Guard[]>
  isGuarded: Map<number, boolean>
}

const knownTrees = new WeakMap<Tree, Known>()

function knownOf({ tree }: Node): Known {
  let known = knownTrees.get(tree)
  if (!known) knownTrees.set(tree, (known = { guards: new Map(), isGuarded: new Map() }))
  return known
}

function guardsOf(block: Node): Guard[] {
  const { guards } = knownOf(block)
  let found = guards.get(block.id)
  if (!found) {
    found = block.namedChildren.flatMap((statement) => {
      if (statement?.type !== 'if_statement') return []
      const body = statement.childForFieldName('consequence') ?? statement.childForFieldName('body')
      if (!body || !endsIn(body)) return []
      return [{ end: statement.endIndex, names: namesIn(statement.childForFieldName('condition')) }]
    })
    guards.set(block.id, found)
  }
  return found
}

/** Words of conditions that are no names of theirs. */
const WORDS = new Set(
  'null undefined None nil not is and or len length size count empty isEmpty Count Length Any any isset'.split(' '),
)

function namesIn(condition: Node | null): Set<string> {
  const names = condition?.text.slice(0, 1_000).match(/[\p{L}_][\p{L}\p{N}_]*/gu) ?? []
  return new Set(names.filter((name) => !WORDS.has(name)))
}

function holds(node: Node, { line, column }: Place): boolean {
  const { startPosition: start, endPosition: end } = node
  const isBehindStart = line - 1 > start.row || (line - 1 === start.row && column - 1 >= start.column)
  return isBehindStart && (line - 1 < end.row || (line - 1 === end.row && column - 1 <= end.column))
}
