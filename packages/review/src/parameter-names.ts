import type { Subject } from './rules/finding.js'

type Statement = Pick<Subject, 'execution' | 'read' | 'facts'>

/** What the parameters of one function's statements are called: one name for each value, and never one for two. */
export class ParameterNames {
  /** The value that each name stands for, as the program writes it. */
  readonly #taken = new Map<string, string>()
  #statements = 0
  #last: Subject['execution'] | undefined

  /** What the parameter $n of a statement is called: as the program calls its value, as the placeholder is, as its column is. */
  of(number: number, statement: Statement): string {
    if (this.#last !== statement.execution) this.#statements++
    this.#last = statement.execution
    const { name, value } = plainName(number, statement)
    // Of a value that is not known one knows only that the same statement has it once.
    const identity = value ?? `${this.#statements}:${number}`
    const words = value?.match(/[A-Za-z_]\w*/g) ?? []
    const longer = words.length > 1 ? words.slice(-2).join('_') : name
    for (const each of [name, longer, ...Array.from({ length: 100 }, (_, at) => `${name}${at + 2}`)]) {
      const taken = this.#taken.get(each)
      if (taken !== undefined && taken !== identity) continue
      this.#taken.set(each, identity)
      return each
    }
    return name
  }
}

/** The name that comes to hand first, and the expression that gives the value, where it is known. */
function plainName(number: number, { execution, read, facts }: Statement): { name: string; value: string | undefined } {
  const { bound } = execution
  const placeholder = read.placeholders.find((each) => each.number === number)
  const value = valueOf(number, { execution, read, facts })
  const word = /^\$?(?:[\w$]+(?:\.|->|::))*\$?([A-Za-z_]\w*)$/.exec(value ?? '')?.[1]
  const column = facts?.equalities.find(({ parameter }) => parameter === number)?.column
  const name = word ?? placeholder?.name ?? column ?? `$${number}`
  // The same name out of the same object is the same value.
  const given =
    bound.kind === 'unknown' && bound.text !== undefined && placeholder?.name
      ? `${bound.text}[${placeholder.name}]`
      : undefined
  return { name: given !== undefined ? (placeholder?.name ?? name) : name, value: value ?? given }
}

function valueOf(number: number, { execution, read }: Statement): string | undefined {
  const pasted = read.numberOfPasted.get(number)
  if (pasted !== undefined) return read.pasted[pasted]?.value
  const { bound } = execution
  const placeholder = read.placeholders.find((each) => each.number === number)
  if (bound.kind === 'named') return bound.values?.[bound.names.indexOf(placeholder?.name ?? '')] || undefined
  if (bound.kind !== 'positional') return undefined
  return bound.values[
    placeholder?.style === 'dollar' ? number - 1 : read.placeholders.findIndex((each) => each.number === number)
  ]
}
