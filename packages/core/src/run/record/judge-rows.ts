import type { RecordValues } from '@ledgerman/contract'
import { toGuard } from '../../mapping/guard-value.js'
import type { StepOutcome } from '../../book/receipt.js'
import { toRowReceipt } from '../../mapping/row-receipt.js'
import { showable } from '../../mapping/showable.js'
import { tellRecord, type ToldRecord } from '../../mapping/record-row.js'
import type { Rows } from '../../sessions/queryable.js'
import { recordChanged, ruleBroken, rowNotWritten } from './change-problems.js'
import { readKeyedRow, type KeyedRow } from './keyed-row.js'
import type { KeyedRun } from './keyed-run.js'
import { ambiguousRecord, noSuchRecord } from './load-record.js'

/** What the one row of the statement says. @throws LedgermanProblem where the step was refused: then nothing was written */
export function judgeRows({ mapping, step }: KeyedRun, rows: Rows['rows']): KeyedRow {
  const [row] = rows
  if (!row) throw noSuchRecord(mapping, step.key)
  if (rows.length > 1) throw ambiguousRecord(mapping, step.key)
  const read = readKeyedRow(mapping, step.statement, row)
  if (!read.guardHolds || !read.asExpected) throw recordChanged(mapping, step, read.before ?? [], read.guardBefore)
  if (read.differs && !read.written) throw rowNotWritten(mapping, step.statement.kind)
  if (read.brokenRule !== null) throw ruleBroken(mapping, read.brokenRule, read.after)
  return read
}

/** A record as its caller is told, and what of it cannot be. */
export interface ToldRow {
  record: RecordValues
  guard: string | null
  lost: ToldRecord['lost']
  outcome: StepOutcome
}

/** What is told of a row that was judged. What JSON cannot carry is left out, and said: it may be committed by now. */
export function tellRow(run: KeyedRun, read: KeyedRow): ToldRow {
  const { mapping, isCommit, started } = run
  // After a rehearsal the record is as it was, and so is its guard; a record that was only rehearsed has none yet.
  const guard = toGuard(mapping, read.written && isCommit ? read.guardAfter : read.guardBefore)
  const { record, lost } = tellRecord(mapping, mapping.properties, read.after ?? read.before ?? [])
  const rows = read.written ? [rowReceipt(run, read)] : []
  return {
    record,
    lost,
    guard,
    outcome: { matched: 1, changed: rows.length, durationMs: performance.now() - started, rows },
  }
}

function rowReceipt({ target, mapping, step }: KeyedRun, { before, after }: KeyedRow) {
  const { touched, kind, set } = step.statement
  const shown = (properties: typeof touched, texts: readonly (string | null)[]) =>
    properties.map((property) => showable(target, property, texts[mapping.properties.indexOf(property)] ?? null))
  const image = {
    key: shown(mapping.key, before ?? after ?? []),
    touched,
    before: before && shown(touched, before),
    after: kind === 'remove' || after === null ? null : shown(touched, after),
  }
  return toRowReceipt(mapping, image, (property) => set.includes(property))
}
