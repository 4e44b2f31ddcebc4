import type { Json, LockHolder, Receipt, RunMode } from '@ledgerman/contract'
import type { BookedRequest } from '../../book/book-run.js'
import type { Rows } from '../../sessions/queryable.js'
import type { Session } from '../../sessions/session-pool.js'
import type { Evidence } from './evidence.js'

export interface RunRequest {
  mode: RunMode
  actor: string
  note?: string | undefined
  params: Readonly<Record<string, Json>>
  /** A request that must take effect once: its key, and a digest of all it asks. */
  request?: BookedRequest | undefined
  /** What a rehearsal saw, where exactly that is to be committed. */
  rehearsed?: Evidence | undefined
  signal?: AbortSignal | undefined
  /** Told the run's id before anything is sent. */
  onBegin?: (run: { id: string; startedAt: string }) => void
  /** What a drill does to the run on its way. */
  hooks?: RunHooks
  /** Told while the run waits for a lock. */
  onWait?: (holders: LockHolder[]) => void
}

/** What a drill does with the session of a run. */
export type HookedSession = Pick<Session, 'query' | 'breakOff'>

/** Called at these places of a run; what they throw is what happened there. */
export interface RunHooks {
  beforeStep?(step: number, session: HookedSession): Promise<void>
  afterStep?(step: number, session: HookedSession): Promise<void>
  beforeCommit?(session: HookedSession): Promise<void>
  /** In place of COMMIT. */
  commit?(session: HookedSession): Promise<Rows>
}

export interface RunResult {
  receipt: Receipt
  /** What the run saw, for a later commit of exactly that. */
  evidence: Evidence
}
