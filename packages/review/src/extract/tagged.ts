import type { Node } from 'web-tree-sitter'
import type { Bound, Part } from './facts.js'
import { placeOf } from './parts.js'

/** Tags that put the values into the text as they are. */
const PASTING = /(^|\.)(raw|unsafe)$/
/** Values that are parts of the statement themselves: `sql(name)`, sql`…`. */
const FRAGMENT = /^\w*sql\b/i

/**
 * The statement in a tagged template, whose tag binds the values: sql`… where code = ${code}`. Undefined where it is none.
 */
export function taggedText(node: Node): { parts: Part[]; bound: Bound } | undefined {
  const template = node.childForFieldName('arguments')
  if (template?.type !== 'template_string' || PASTING.test(node.childForFieldName('function')?.text ?? ''))
    return undefined
  const parts: Part[] = []
  const values: string[] = []
  for (const child of template.namedChildren) {
    if (!child) continue
    const place = placeOf(child)
    if (child.type !== 'template_substitution') {
      parts.push({ text: child.text, place })
      continue
    }
    const value = child.namedChildren[0]?.text ?? ''
    if (FRAGMENT.test(value)) parts.push({ value, how: 'interpolation', place })
    else parts.push({ text: `$${values.push(value)}`, place })
  }
  return {
    parts,
    bound: values.length > 0 ? { kind: 'positional', values, place: placeOf(template) } : { kind: 'none' },
  }
}
