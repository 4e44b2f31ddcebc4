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
export type Part = (
  | { text: string; place: Place }
  | {
      value: string
      how: 'interpolation' | 'concatenation' | 'format'
      place: Place
      /** What it can only be, by its type, its conversion or the place of the format: a number, a name or a text that was quoted. */
      safe?: 'number' | 'name' | 'quoted'
    }
) & {
  /** Whether it is there on some ways through the program only. */
  sometimes?: true
}

/** What is bound beside a statement. */
export type Bound =
  | { kind: 'none' }
  /** `text` is the expression that is given, where it is one. */
  | { kind: 'unknown'; text?: string }
  /** `values` are the expressions, in order. */
  | { kind: 'positional'; values: string[]; place: Place; isNoTuple?: boolean }
  /** `values` are the expressions of the names, as far as they are known. */
  | { kind: 'named'; names: string[]; values?: string[]; place: Place }

/** A statement that is run, or prepared to be run. */
export interface Execution {
  language: SourceLanguage
  place: Place
  parts: Part[]
  bound: Bound
  /** What it is called with: `execute`, `query`; empty for a text that nothing was seen to run. */
  method: string
  receiver: string
  /** The variable that holds the statement once it is prepared. */
  handle: string | null
  /** Each time it is run, as far as one can see; a statement that is only prepared has none. */
  runs: Run[]
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

/** Where the result of a run goes: nowhere, into a variable, into several by a pattern, or on to somebody who may look at it. */
export type Result =
  | { to: 'nowhere' }
  | { to: 'variable'; name: string }
  | { to: 'pattern'; text: string; at: number; end: number }
  | { to: 'elsewhere' }

/** One run of a statement: its place in the file, in characters. */
export interface Run {
  /** The call that runs it. */
  method: string
  at: number
  end: number
  arms: readonly Arm[]
  endsPath: boolean
  result: Result
  /** Whether what it gives is dropped at once, where that may be the promise of a result. */
  isDropped: boolean
}

/** A call in a function. */
export interface Call {
  name: string
  receiver: string
  argument: string
  at: number
  arms: readonly Arm[]
  isInFinally: boolean
  isInWith: boolean
}

/** What a function without a name is called in what is said of it. */
export const NAMELESS = 'This function'

/** What a function does, in order. What stands in no function belongs to the file, which is taken for one. */
export interface FunctionFacts {
  name: string
  place: Place
  isFile: boolean
  /** Where it begins and ends in the file, in characters. */
  from: number
  end: number
  /** Its source without comments. */
  text: string
  /** Its source without comments and without what stands in its texts, character for character. */
  code: string
  executions: Execution[]
  calls: Call[]
  /** Its returns, those of functions in it left out. */
  returns: { at: number; end: number; arms: readonly Arm[]; place: Place }[]
}
