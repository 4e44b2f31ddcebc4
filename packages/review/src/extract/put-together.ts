import type { Node } from 'web-tree-sitter'
import type { Part } from './facts.js'
import { withItem } from './lists.js'
import { joined, placeOf, valuePart } from './parts.js'
import { asSometimes, isSometimes } from './sometimes.js'
import { APPENDING, calledOf, textOf, type Scope } from './text-of.js'

const ADDING = /^(push|append|Add|add)$/

/** Follows texts and lists that calls put together: `list.push(…)`, `builder.append(…).append(…)`. */
export function putTogether(node: Node, { name, receiver, args }: ReturnType<typeof calledOf>, scope: Scope): void {
  if (!receiver) return
  const items = ADDING.test(name) ? scope.get(`${receiver.text}[]`) : undefined
  if (items) {
    scope.set(`${receiver.text}[]`, withItem(items, marked(node, items, added(args, scope))))
    return
  }
  if (!APPENDING.test(name) || isContinued(node)) return
  const pieces: Part[][] = []
  let root: Node | null = node
  for (let depth = 0; root && depth < 1_000; depth++) {
    const called = calledOf(root)
    if (!APPENDING.test(called.name)) break
    pieces.unshift([...added(called.args, scope), ...lineEnd(called.name, root)])
    root = called.receiver
  }
  const before = root && scope.get(root.text)
  if (root && before) scope.set(root.text, joined([...before, ...marked(node, before, pieces.flat())]))
}

/** Whether the next call of the same chain goes on: that one adds all of it. */
function isContinued(node: Node): boolean {
  const next = node.parent?.parent && calledOf(node.parent).receiver?.id !== node.id ? node.parent.parent : node.parent
  if (!next) return false
  const { name, receiver } = calledOf(next)
  return receiver?.id === node.id && APPENDING.test(name)
}

/** What is added, marked where it is added on some ways only. */
export function marked(node: Node, before: readonly Part[], parts: Part[]): Part[] {
  return isSometimes(node, before) ? asSometimes(parts) : parts
}

function added(args: readonly Node[], scope: Scope): Part[] {
  return args.flatMap((arg): Part[] => textOf(arg, scope) ?? [valuePart(arg, 'concatenation', scope)])
}

function lineEnd(name: string, node: Node): Part[] {
  return name === 'AppendLine' ? [{ text: '\n', place: placeOf(node) }] : []
}
