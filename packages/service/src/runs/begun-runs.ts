import { LedgermanProblem, type LockHolder, type Receipt, type RunMode, type RunState } from '@ledgerman/contract'

/** How many runs are remembered after their end. */
const MOST_OVER = 200

/**
 * The runs that this process began: those going on, and the latest of those that are over. A run's entry stands in the book only
 * once it is over; who finds it in somebody's way wants to know of it before.
 */
export class BegunRuns {
  readonly #running = new Map<string, RunState>()
  readonly #over = new Map<string, RunState>()

  /** Remembers a run as going on, until `over` is called. */
  begin(
    target: string,
    { id, startedAt }: { id: string; startedAt: string },
    { mode, actor, transaction }: { mode: RunMode; actor: string; transaction: string | null },
  ): BegunRun {
    const key = `${target}/${id}`
    const state: RunState = {
      id,
      state: 'running',
      mode,
      actor,
      transaction,
      startedAt,
      waitsFor: [],
      entry: null,
    }
    this.#running.set(key, state)
    return {
      waits: (holders) => (state.waitsFor = holders),
      over: (receipt) => {
        this.#running.delete(key)
        if (this.#over.size >= MOST_OVER) this.#over.delete(this.#over.keys().next().value ?? '')
        this.#over.set(key, { ...state, state: 'over', waitsFor: [], entry: receipt?.entry ?? null })
      },
    }
  }

  /** @throws LedgermanProblem not-found */
  get(target: string, id: string): RunState {
    const state = this.#running.get(`${target}/${id}`) ?? this.#over.get(`${target}/${id}`)
    if (state) return state
    throw new LedgermanProblem(
      'not-found',
      `No run ${id} was begun on ${target} by this service lately. If it was committed, its entry is in the book.`,
      { target, run: id },
    )
  }
}

export interface BegunRun {
  waits(holders: LockHolder[]): void
  over(receipt: Receipt | undefined): void
}
