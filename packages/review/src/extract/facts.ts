import type { SourceLanguage } from './grammar.js'
import type { Arm } from './paths.js'

/** A place in a file: lines and columns from 1. */
export interface Place {
  line: number
  column: number
  endLine: number
  endColumn: number
}

/** A part of a statement's text: a constant, or a value that is put into it as the program runs. */
export type Part =
  { text: string; place: Place } | { value: string; how: 'interpolation' | 'concatenation' | 'format'; place: Place }

/** What is bound beside a statement. */
export type Bound =
  | { kind: 'none' }
  | { kind: 'unknown' }
  /** `values` are the expressions, in order. */
  | { kind: 'positional'; values: string[]; place: Place; isNoTuple?: boolean }
  | { kind: 'named'; names: string[]; place: Place }

/** A statement that is run, or prepared to be run. */
export interface Execution {
  language: SourceLanguage
  place: Place
  parts: Part[]
  bound: Bound
  /** What it is called with: `execute`, `query`; empty for a text that nothing was seen to run. */
  method: string
  receiver: string
  /** Whether what the call gives is looked at. */
  isResultUsed: boolean
  /** The loop that it stands in, by its place in the file. */
  loop: number | null
  /** The names that differ from round to round of it; null where they are not known, and where there is no loop. */
  roundNames: ReadonlySet<string> | null
  /** The arms of branches that it stands in, the outermost first. */
  arms: readonly Arm[]
  /** Whether the function, or the loop's round, ends soon after it: a return, a throw or a break follows in its block. */
  endsPath: boolean
  /** Where it stands in the file, in characters. */
  at: number
  fn: FunctionFacts | null
}

/** What a function does, in order. */
export interface FunctionFacts {
  name: string
  place: Place
  text: string
  executions: Execution[]
  calls: { name: string; receiver: string; at: number; isInFinally: boolean; isInWith: boolean; argument: string }[]
  hasTry: boolean
}
