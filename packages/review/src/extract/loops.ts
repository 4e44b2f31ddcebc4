import type { Node } from 'web-tree-sitter'

const NAME = /[A-Za-z_$][\w$]*/g
/** Texts of a program: what is in them assigns nothing. */
const TEXTS = /"(?:[^"\\\n]|\\.)*"|'(?:[^'\\\n]|\\.)*'|`(?:[^`\\]|\\.)*`/g
const ASSIGNED = /(?<![\w$])([A-Za-z_$][\w$]*)\s*(?:\+\+|--|[-+*/.]?=(?![=>]))/g
/** What is looked at of a loop, in characters. */
const MOST_READ = 20_000

/** The names that differ from round to round of a loop, and of those around it: those of its head, and those its body assigns to. */
export function namesOfRounds(loop: Node, outer: ReadonlySet<string> | null): ReadonlySet<string> {
  const body = loop.childForFieldName('body')
  const text = loop.text.slice(0, MOST_READ)
  const head = body ? text.slice(0, body.startIndex - loop.startIndex) : text
  return new Set([
    ...(outer ?? []),
    ...(head.match(NAME) ?? []),
    ...[...text.replace(TEXTS, '').matchAll(ASSIGNED)].map(([, name = '']) => name),
  ])
}

/** Whether one of these expressions names something that differs from round to round. */
export function namesAny(expressions: readonly string[], names: ReadonlySet<string>): boolean {
  return expressions.some((expression) => (expression.match(NAME) ?? []).some((name) => names.has(name)))
}

/** A function that is called for each item of a list. */
export function callsEach(node: Node): boolean {
  const call = node.parent?.parent
  return (
    call !== null &&
    call !== undefined &&
    /\.(forEach|map|flatMap|reduce|each|array_map|ForEach)\s*$/.test(
      (call.childForFieldName('function') ?? call).text.split('(')[0] ?? '',
    )
  )
}
