import type { Node } from 'web-tree-sitter'
import type { FunctionFacts } from './facts.js'

type Range = readonly [from: number, to: number]

const COMMENTS = /comment$/
const TEXTS =
  /^(string_fragment|string_content|string_literal_content|heredoc_body|nowdoc_body|nowdoc_string|multiline_string_fragment|raw_string_content|raw_string_literal|verbatim_string_literal|escape_sequence|regex_pattern)$/

/** How much of a function is looked at, in characters. */
const LONGEST = 100_000

/** A file's source, of which comments and texts are known once all of its nodes were seen, in the order of the file. */
export class Source {
  readonly #comments: Range[] = []
  readonly #texts: Range[] = []
  #masked: { text: string; code: string } | undefined

  constructor(readonly text: string) {}

  see(node: Node): void {
    if (COMMENTS.test(node.type)) this.#comments.push([node.startIndex, node.endIndex])
    else if (TEXTS.test(node.type) && node.namedChildCount === 0) this.#texts.push([node.startIndex, node.endIndex])
  }

  /** The source of a function, without comments, and without its texts too; of a file without its functions. */
  of({ from, end, isFile }: FunctionFacts, functions: readonly FunctionFacts[]): Pick<FunctionFacts, 'text' | 'code'> {
    this.#masked ??= {
      text: blanked(this.text, this.#comments),
      code: blanked(
        this.text,
        [...this.#comments, ...this.#texts].sort(([one], [other]) => one - other),
      ),
    }
    const { text, code } = this.#masked
    const to = isFile ? end : Math.min(end, from + LONGEST)
    if (!isFile) return { text: text.slice(from, to), code: code.slice(from, to) }
    const inner = functions.map((fn): Range => [fn.from, fn.end])
    return { text: blanked(text, inner), code: blanked(code, inner) }
  }
}

/** A text with blanks in these places, so that all others stay where they are. */
function blanked(text: string, ranges: readonly Range[]): string {
  const pieces: string[] = []
  let at = 0
  for (const [from, to] of ranges) {
    if (to <= at) continue
    pieces.push(text.slice(at, Math.max(at, from)), ' '.repeat(to - Math.max(at, from)))
    at = to
  }
  return pieces.join('') + text.slice(at)
}
