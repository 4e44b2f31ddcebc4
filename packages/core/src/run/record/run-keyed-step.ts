import { newEntryId } from '../../book/entry-id.js'
import { introduceStatements } from '../../book/introduce-statement.js'
import { settle } from '../../book/settle.js'
import { carryOut } from '../lanes/carry-out.js'
import { refused, type Lane } from '../lanes/lane.js'
import type { Mapping } from '../../mapping/mapping.js'
import type { RunHeader } from '../../book/receipt.js'
import { tellEnd } from '../../sessions/activity.js'
import type { Target } from '../../target/target.js'
import { tellRow, type ToldRow } from './judge-rows.js'
import { keyedLanes } from './keyed-lanes.js'
import type { KeyedRow } from './keyed-row.js'
import { KeyedRun } from './keyed-run.js'
import type { KeyedResult, KeyedStep, RunOptions } from './keyed-step.js'
import { settledRecord } from './settled-record.js'

/**
 * Runs one keyed step, and proves what it did.
 *
 * In mode `commit` the statement judges and books by itself, in one round trip where the table allows it; in mode `rehearse`
 * everything is rolled back.
 *
 * @throws LedgermanProblem with the receipt as far as the run got.
 */
export function runKeyedStep(
  target: Target,
  mapping: Mapping,
  step: KeyedStep,
  options: RunOptions,
): Promise<KeyedResult> {
  const run = new KeyedRun(target, mapping, step, options, toHeader(target, mapping, options))
  const outcome = run.isCommit ? 'committed' : 'rehearsed'
  const result = ({ record, guard, lost, outcome: of }: ToldRow): KeyedResult => {
    const receipt = run.receipt(outcome, of)
    return {
      record,
      guard,
      receipt:
        lost.length === 0
          ? receipt
          : { ...receipt, notShown: [...lost.map(({ why }) => why), ...(receipt.notShown ?? [])] },
    }
  }
  const work = carryOut<KeyedRow, KeyedResult>(target, {
    lanes: introduced(run),
    settle: (cause) => settle(target, run.header, cause),
    tell: (read) => result(tellRow(run, read)),
    tellFromBook: async () => result(await settledRecord(target, mapping, step.key, run.header.id)),
    refuse: (error) => run.refuse(error),
    unsettled: (problem) => run.unsettled(problem),
  })
  return tellEnd(target.activity, 'change', options.mode, work)
}

/** The lanes, once the statement stands in the book: an entry refers to it. */
async function* introduced(run: KeyedRun): AsyncGenerator<Lane<KeyedRow>> {
  const { target, mapping, step } = run
  if (run.isCommit) {
    const { kind, step: statement, set, touched } = step.statement
    const failed = await introduceStatements(target, [{ kind, mapping, statement, set, touched }]).then(
      () => null,
      (error: unknown) => ({ error }),
    )
    if (failed) yield { name: 'one statement', send: () => Promise.resolve(refused(failed.error)) }
  }
  yield* keyedLanes(run)
}

/** What is known of a run before it begins. */
export function toHeader(
  target: Target,
  mapping: Mapping,
  { mode, actor, note }: Pick<RunOptions, 'mode' | 'actor' | 'note'>,
): RunHeader {
  return {
    id: newEntryId(),
    target: target.name,
    mode,
    revision: mapping.revision,
    actor,
    note: note ?? null,
    startedAt: new Date().toISOString(),
  }
}
