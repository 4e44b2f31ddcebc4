import type { ClientBase } from 'pg'
import { arePrepared, ask, isDatabaseError, isPool, type Db, type Row } from '../support/ask.js'
import { ConstraintBroken, LockTimeout, ValueInvalid } from '../support/errors.js'
import type { Limits } from '../support/limits.js'
import { askAlone, inTransaction } from '../support/transaction.js'
import type { Run } from './run.js'

/** After how many runs at most a transaction that was refused as one statement is tried as one again. */
const LONGEST_PAUSE = 64

let isStepwise = false

/** Says whether every run goes step by step, and none as one statement: for whoever looks at each step, as tests and traces do. */
export function runStepByStep(isWanted: boolean): void {
  isStepwise = isWanted
}

/** All steps of a transaction as one statement, and how that went lately: what is refused is run twice. */
export class Whole {
  readonly text: string
  #pause = 0
  #next = 1
  #hurried: Limits | undefined

  constructor(text: string) {
    this.text = text
  }

  isTried(): boolean {
    return !isStepwise && arePrepared() && this.#pause-- <= 0
  }

  wentWell(): void {
    this.#pause = 0
    this.#next = 1
  }

  wasRefused(): void {
    this.#pause = this.#next - 1
    this.#next = Math.min(LONGEST_PAUSE, this.#next * 2)
  }

  /** The limits of a run that has waited for its locks already. */
  hurried(limits: Limits): Limits {
    return (this.#hurried ??= { ...limits, lockWaitMs: 1 })
  }
}

/**
 * Runs a transaction as one statement, which raises where anything is refused and so changes nothing; then, and where it is not to begin
 * and end on its own, step by step, which says what is refused and why.
 *
 * @param values what the statement binds, anew for each attempt: its entry has another id
 * @throws DataError, and what `stepByStep` throws; then nothing was changed, but for OutcomeUnknown
 */
export async function asOne(
  db: Db,
  limits: Limits,
  run: Run,
  whole: Whole,
  values: () => readonly (string | null)[],
  stepByStep: (client: ClientBase) => Promise<void>,
): Promise<void> {
  if (!isPool(db) || !whole.isTried()) return inTransaction(db, limits, stepByStep)
  const bound = () => {
    run.begin()
    return values()
  }
  let rows: Row[]
  try {
    rows =
      (await askAlone(db, limits, whole.text, bound())) ??
      (await inTransaction(db, limits, (client) => ask(client, whole.text, bound())))
  } catch (error) {
    if (!isRefusal(error)) throw error
    whole.wasRefused()
    return inTransaction(db, error instanceof LockTimeout ? whole.hurried(limits) : limits, stepByStep)
  }
  whole.wentWell()
  run.tellAll(rows[0]?.[0] ?? '[]')
}

/** Whether the database refused the statement, so that it left nothing, and can be asked for the reason step by step. */
function isRefusal(error: unknown): boolean {
  return (
    isDatabaseError(error) ||
    error instanceof ConstraintBroken ||
    error instanceof ValueInvalid ||
    error instanceof LockTimeout
  )
}
