import type { Expectation, Isolation, TransactionDefinition } from '@ledgerman/contract'
import type { Links } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import type { Statement } from '../statement/statement.js'
import type { Finder, FirstRows, RowLock } from '../statement/build-load-step.js'
import type { WriteStep } from '../statement/build-write-step.js'
import type { NamedExpression } from '../statement/record-scope.js'
import type { ColumnType } from '../values/column-type.js'

export interface Param {
  name: string
  /** Null where it takes the type of what it stands beside. */
  type: ColumnType | null
  nullable: boolean
  /** The value where none is given, in PostgreSQL's text form; undefined where one has to be. */
  default: string | null | undefined
}

/** A question that is answered in the database: one row, one column, `t` where it holds. */
export interface Judgement {
  source: string
  expression: NamedExpression
  statement: Statement
}

/** Words with places for values: `{giver.code} has {giver.hoursLeft} hours left`. */
export interface Words {
  source: string
  parts: (string | { parameter: string } | { loaded: string; property: string })[]
}

interface CommonStep {
  /** From 1. */
  no: number
  as: string | null
  when: Judgement | null
  /** Null where only a rehearsal may run it. */
  expect: Expectation | null
  /** The keys of all rows that fit, where those that others hold are left out. */
  foundKeys?: Statement | null
}

/** Whether a later step may read the record that a step wrote. */
export function isRowRead({ as }: Pick<CommonStep, 'as'>): boolean {
  return as !== null
}

export type PlannedStep = CommonStep &
  (
    | {
        kind: 'load'
        mapping: Mapping
        statement: Statement
        /** The statement of written code. */
        inCode(): Statement
        finder: Finder
        first: FirstRows | null
        lock: RowLock
      }
    | ({ kind: 'change' | 'replace' | 'remove' | 'add' } & WriteStep & {
          /** The loaded record whose key and guard the step takes. */
          loadedName: string | null
          /** Guards the record may have; a parameter's value where it is one. */
          guards: readonly string[] | { parameter: string } | 'any' | 'loaded' | null
          isByWhere: boolean
        })
    | { kind: 'require'; judgement: Judgement; otherwise: Words }
    | { kind: 'sql'; statement: Statement; writes: boolean; source: string }
  )

export type PlannedWrite = Extract<PlannedStep, { kind: 'change' | 'replace' | 'remove' | 'add' }>

/** A transaction that is ready to be run. */
export interface Plan {
  /** Null for steps that were sent with the run itself. */
  name: string | null
  revision: number | null
  definition: Omit<TransactionDefinition, 'transaction'>
  params: ReadonlyMap<string, Param>
  /** Parameters that meet a sensitive property somewhere: their values are shown nowhere. */
  sensitiveParams: ReadonlySet<string>
  /**
   * What a run begins with, in one statement: actor, run id and limits set for this transaction, then a column for each rule of a
   * parameter, `t` where it holds.
   */
  prologue: {
    statement: Statement
    settings: number
    rules: { name: string; source: string; expression: NamedExpression }[]
  }
  steps: PlannedStep[]
  isolation: Isolation
  /** Milliseconds; null for the target's own. */
  lockWaitMs: number | null
  skipLocked: boolean
  timeLimitMs: number | null
  retry: number
  /** The mappings it uses, by name and revision. */
  mappings: ReadonlyMap<string, Mapping>
  links: Links
}

export function isWrite(step: PlannedStep): step is PlannedWrite {
  return ['change', 'replace', 'remove', 'add'].includes(step.kind)
}

/** Whether a step may change rows: its counts are what a run as a whole is told by. */
export function mayWrite(step: PlannedStep): boolean {
  return isWrite(step) || (step.kind === 'sql' && step.writes)
}

/** The statement that stands for a step: in receipts, and in the book. */
export function shownStatement(step: PlannedStep): Statement {
  return step.kind === 'require' ? step.judgement.statement : isWrite(step) ? step.step : step.statement
}
