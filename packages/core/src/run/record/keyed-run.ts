import { isProblem, LedgermanProblem, type Receipt, type StepKind } from '@ledgerman/contract'
import { REFUSED_BY_BOOK } from '../../book/book-schema.js'
import { statementId } from '../../book/introduce-statement.js'
import { recordRefusal } from '../../book/record-refusal.js'
import { NoTurn, type Turn } from '../../sessions/sharing/turn-queue.js'
import { isCancelled, isDatabaseError } from '../../sessions/database-error.js'
import type { Mapping } from '../../mapping/mapping.js'
import { toReceipt, toStepReceipt, type RunHeader, type StepOutcome } from '../../book/receipt.js'
import { showable } from '../../mapping/showable.js'
import { showableBinds, toBindReceipts, toShownStatement } from '../../statement/shown-statement.js'
import { reversibilityOf } from '../../mapping/reversibility.js'
import { writtenBeside } from '../../mapping/side-writes.js'
import { toldBeside, type WrittenWithIt } from './written-with-it.js'
import { bindValues, type SlotSource } from '../../statement/statement.js'
import type { Target } from '../../target/target.js'
import { digestKeyPads } from '../../statement/digest-key.js'
import { toTextArray } from '../../sessions/text-array.js'
import { lockTimeout } from '../../sessions/lock-timeout.js'
import { LockWatch } from '../../sessions/lock-watch.js'
import { guardBind } from '../../mapping/guard-value.js'
import { ruleBroken, rowNotWritten } from './change-problems.js'
import { explainConstraint, explainRule } from './explain-broken.js'
import { explainConflict, explainRemoved } from './explain-conflict.js'
import type { KeyedStep, RunOptions } from './keyed-step.js'

/** A keyed step on its way: what its statement is filled with, who looks at its session, and what is told of it. */
export class KeyedRun {
  readonly started = performance.now()
  readonly isCommit: boolean
  /** The binds of the step, as they may be shown and kept. */
  readonly #shown: (string | null)[]
  /** What else was written, where that was counted. */
  writtenWithIt: WrittenWithIt | null = null
  #watch: LockWatch | undefined

  constructor(
    readonly target: Target,
    readonly mapping: Mapping,
    readonly step: KeyedStep,
    readonly options: RunOptions,
    readonly header: RunHeader,
  ) {
    this.isCommit = options.mode === 'commit'
    this.#shown = showableBinds(
      step.statement.step.slots,
      bindValues(step.statement.step, this.valueOf),
      target.digestKey,
    )
  }

  /** The number of its statement in the book. */
  get statementId(): string {
    const { kind, step, set, touched } = this.step.statement
    return statementId({ kind, mapping: this.mapping, statement: step, set, touched })
  }

  /** Somebody looks who holds the lock, if the statement comes to wait for one. What was waited for in line counts. */
  watch(pid: number, turn?: Turn): LockWatch {
    this.#watch?.end()
    const leftMs = Math.max(1, this.target.limits.lockWaitMs - (turn?.waitedMs ?? 0))
    this.#watch = new LockWatch(this.target, pid, leftMs, (holders) => {
      turn?.tellHolders(holders)
      this.options.onWait?.(holders)
    })
    return this.#watch
  }

  endWatch(): void {
    this.#watch?.end()
  }

  readonly valueOf = (source: SlotSource): string | null => {
    const { step, mapping, options, header, target } = this
    switch (source.from) {
      case 'key':
        return step.key.get(source.property) ?? null
      case 'set':
        return step.set.texts.get(source.property) ?? null
      case 'expected':
        return step.expected.texts.get(source.property) ?? null
      case 'merged':
        return step.set.merged[source.at] ?? null
      case 'literal':
        return source.text
      case 'guard':
        return guardBind(mapping, step.guard)
      case 'actor':
        return options.actor
      case 'digest key':
        return digestKeyPads(target.digestKey)
      case 'parameter':
      case 'loaded':
      case 'loaded guard':
      case 'outcome':
      case 'value':
      case 'step':
      case 'place':
      case 'offset':
      case 'limit':
      case 'run':
      case 'line':
      case 'bits':
        return null
      case 'entry':
        return {
          id: header.id,
          statement: this.statementId,
          binds: toTextArray(this.#shown),
          note: header.note,
        }[source.field]
    }
  }

  receipt(outcome: Receipt['outcome'], of: StepOutcome): Receipt {
    const { mapping, header, step } = this
    const { kind, set, step: shown } = step.statement
    const stepReceipt = toStepReceipt(
      kind,
      mapping.name,
      toShownStatement(shown, toBindReceipts(shown.slots, this.#shown)),
      of,
    )
    const reversible = outcome === 'refused' ? null : reversibilityOf(mapping, kind, set)
    const receipt = toReceipt(header, outcome, this.#elapsedMs, [stepReceipt], reversible)
    if (outcome === 'refused' || of.changed !== 1) return receipt
    return {
      ...receipt,
      ...toldBeside(writtenBeside(mapping, kind, set), [], this.writtenWithIt, [
        { mapping, kinds: [kind], changed: 1 },
      ]),
    }
  }

  /** The problem of a run that was rolled back, with its receipt; a refused commit goes to the book. */
  async refuse(error: unknown): Promise<unknown> {
    const { mapping, target, step, header } = this
    const { statement } = step
    const isOverdue = error instanceof NoTurn || (isCancelled(error) && this.#watch?.hasCancelled === true)
    const raised = isOverdue ? notGranted(mapping, error) : raisedByStatement(error, mapping, statement.kind)
    const explained = target.explain(raised ?? error, { mapping, slots: statement.run.slots, kind: statement.kind })
    if (!isProblem(explained)) return explained
    const problem = await this.#tellMore(explained, error instanceof NoTurn ? error.holders : this.#watch?.holders)
    const matched = matchedOf(problem)
    const isBooked =
      this.isCommit &&
      (await recordRefusal(target, {
        ...header,
        problem,
        detail: problem.detail,
        matched,
        record: step.key.size === 0 ? undefined : { mapping, key: this.#shownKey() },
        statement: this.statementId,
        binds: this.#shown,
      }))
    const receipt = this.#refusedReceipt(matched)
    return problem.with({ receipt: isBooked ? receipt : { ...receipt, entry: null } })
  }

  /** Of a run that was settled as refused the entry stands; of one that nobody knows of there is no receipt. */
  unsettled(problem: unknown): unknown {
    if (!isProblem(problem) || problem.code === 'outcome-unknown') return problem
    return problem.with({ receipt: this.#refusedReceipt(null) })
  }

  /** Adds what only somebody else can say: who held the lock, who changed or removed the record. */
  #tellMore(
    problem: LedgermanProblem,
    holders: LockWatch['holders'] = [],
  ): LedgermanProblem | Promise<LedgermanProblem> {
    const { target, mapping, step, options } = this
    const guards = step.guard === 'any' ? [] : step.guard.guards
    if (problem.code === 'lock-timeout')
      return lockTimeout(problem, holders, target.limits.lockWaitMs, undefined, this.#elapsedMs)
    if (problem.code === 'rule-broken') return explainRule(this, problem)
    if (problem.code === 'constraint-broken') return explainConstraint(this, problem)
    if (problem.code === 'record-changed')
      return explainConflict(target, mapping, step.key, guards, problem, options.actor)
    if (problem.code === 'no-such-record' && guards.length > 0)
      return explainRemoved(target, mapping, step.key, problem)
    return problem
  }

  #refusedReceipt(matched: number | null): Receipt {
    return this.receipt('refused', { matched, changed: 0, durationMs: this.#elapsedMs, rows: [] })
  }

  #shownKey(): (string | null)[] {
    return this.mapping.key.map((property) => showable(this.target, property, this.step.key.get(property.name) ?? null))
  }

  get #elapsedMs(): number {
    return performance.now() - this.started
  }
}

/** The problem of a lock that was waited for as long as it may be, here or in the database. */
function notGranted(mapping: Mapping, cause: unknown): LedgermanProblem {
  return new LedgermanProblem('lock-timeout', 'A lock was not granted in time.', { mapping: mapping.name }, { cause })
}

/** The problem that the statement raised by itself; undefined for any other error. */
function raisedByStatement(error: unknown, mapping: Mapping, kind: StepKind): LedgermanProblem | undefined {
  if (!isDatabaseError(error) || error.code !== REFUSED_BY_BOOK) return undefined
  const rule = /^rule-broken (\d+)$/.exec(error.message)?.[1]
  return rule === undefined ? rowNotWritten(mapping, kind) : ruleBroken(mapping, Number(rule))
}

function matchedOf({ code, facts }: LedgermanProblem): number | null {
  if (typeof facts['matched'] === 'number') return facts['matched']
  return code === 'no-such-record' ? 0 : null
}
