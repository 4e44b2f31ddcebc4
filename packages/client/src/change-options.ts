import {
  isProblem,
  LedgermanProblem,
  suggestName,
  type LockHolder,
  type RecordValues,
  type RunMode,
} from '@ledgerman/contract'
import type { Request } from './http-client.js'

/** How one record is to be written. */
export interface ChangeOptions {
  mode?: RunMode
  /** What was loaded of the record: a difference refuses, and is shown beside yours. */
  loaded?: RecordValues | undefined
  /** The guard of an earlier load; `*` accepts any state; left out only where the mapping has no guard. */
  guard?: string | undefined
  /** A rehearsal's token: commit exactly what it saw, or refuse. */
  rehearsal?: string | undefined
  /** Sent again with the same key, it takes effect once. */
  idempotencyKey?: string | undefined
  /** What to do where the record was changed meanwhile: `reapply` tries again on it, if none of your properties moved. */
  ifChanged?: 'refuse' | 'reapply'
  /** Whether an object for a json property sets only the members that it names (RFC 7396). */
  merge?: boolean | undefined
  /** Kept with the entry. */
  note?: string | undefined
  /** Told while the change waits for a lock. */
  onWait?: OnWait | undefined
}

/** What a call that adds a record knows, one that writes another, and one that changes named properties. */
export const ADD_OPTIONS = ['mode', 'rehearsal', 'note', 'idempotencyKey', 'onWait'] as const
export const WRITE_OPTIONS = [...ADD_OPTIONS, 'guard'] as const
export const CHANGE_OPTIONS = [...WRITE_OPTIONS, 'loaded', 'merge', 'ifChanged'] as const

/** That nothing is asked for that would be dropped. @throws LedgermanProblem request-invalid */
export function assertOptions(options: object, known: readonly string[]): void {
  const given = Object.entries(options).filter(([, value]) => value !== undefined)
  const unknown = given.map(([name]) => name).find((name) => !known.includes(name))
  if (unknown !== undefined)
    throw new LedgermanProblem(
      'request-invalid',
      `${unknown}: there is no such option. ${suggestName(unknown, known)}`,
      {
        where: unknown,
      },
    )
}

/** Told who holds the lock that a call waits for. */
export type OnWait = (holders: LockHolder[]) => void

/** On what a change can be applied again: where none of its properties moved, the current record with those as they were loaded. */
export function reapplied(error: unknown): Pick<ChangeOptions, 'guard' | 'loaded'> | undefined {
  if (!isProblem(error, 'record-changed')) return undefined
  const { overlap, loaded, yours, guard } = error.facts as Record<string, unknown>
  if (!Array.isArray(overlap) || overlap.length > 0 || typeof guard !== 'string') return undefined
  const names = Object.keys(yours as RecordValues)
  return { guard, loaded: Object.fromEntries(names.map((name) => [name, (loaded as RecordValues)[name]])) }
}

function ifMatch(guard: string | undefined): Record<string, string> {
  if (guard === undefined) return {}
  return { 'if-match': guard === '*' ? '*' : `"${guard}"` }
}

/** The query and headers of a call that writes a record. */
export function written(
  { mode = 'commit', guard, rehearsal, note, idempotencyKey }: ChangeOptions,
  query: Record<string, string>,
): Pick<Request, 'query' | 'headers'> {
  const once: Record<string, string> = idempotencyKey === undefined ? {} : { 'idempotency-key': idempotencyKey }
  return { query: { ...query, mode, rehearsal, note }, headers: { ...ifMatch(guard), ...once } }
}
