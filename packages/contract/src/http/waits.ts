import { z } from 'zod'

/** A session that holds, or blocks the way to, a lock somebody waits for. */
const PID = 'Of a prepared transaction, which no session serves: its number, negative.'
const APPLICATION =
  "What the session calls itself; of a prepared transaction its name, of the server's own processes what they are."

export const lockHolder = z
  .looseObject({
    pid: z.int().describe(PID),
    application: z.string().nullable().describe(APPLICATION),
    user: z.string().nullable(),
    state: z.string().nullable(),
    since: z.string().nullable().describe('When its transaction began.'),
    transactionAgeMs: z.number().nullable(),
    lastStatement: z.string().nullable(),
    depth: z.int().describe('1 for who is waited for itself, 2 for who that one waits for, and so on.'),
    isRoot: z.boolean().describe('Whether it waits for nobody.'),
  })
  .meta({ id: 'LockHolder' })

export type LockHolder = z.output<typeof lockHolder>

/** No session ends with a prepared transaction, and none can be ended. */
export const PREPARED_ENDS = 'It stays until somebody ends it with COMMIT PREPARED or ROLLBACK PREPARED.'

/** Who holds or waits, in words: `pid 4711 (psql, ada)`, or of a prepared transaction, which nobody serves, its name. */
export function sessionWords({ pid, application, user }: Pick<LockHolder, 'pid' | 'application' | 'user'>): string {
  const who = (pid < 0 ? [user] : [application, user]).filter(Boolean).join(', ')
  return `${pid < 0 ? `the prepared transaction ${application ?? -pid}` : `pid ${pid}`}${who ? ` (${who})` : ''}`
}

/** A session that waits, is waited for, or is idle in a transaction for long. */
export const waitingSession = z.strictObject({
  pid: z.int().describe(PID),
  startedAt: z.string().describe('When the session began: with the pid it names one session for ever.'),
  blockedBy: z.array(z.int()),
  behind: z.int().describe('How many sessions wait for it, directly or through others.'),
  isRoot: z.boolean().describe('Whether it is waited for and waits for nobody itself.'),
  application: z.string().nullable().describe(APPLICATION),
  user: z.string().nullable(),
  state: z.string().nullable(),
  transactionAgeMs: z.number().nullable(),
  idleMs: z.number().nullable().describe('For how long it has been idle, where it is.'),
  isIdleTooLong: z.boolean().describe('Idle in a transaction beyond the limit, whether anybody waits yet or not.'),
  lastStatement: z.string().nullable(),
  wants: z.string().nullable().describe('The lock it waits for, such as `row` or `table, AccessExclusiveLock`.'),
  lock: z.enum(['row', 'table', 'other']).nullable(),
  table: z.string().nullable().describe('The table of the lock it waits for, or holds where others wait.'),
  holds: z.array(z.string()).describe('What it holds that others wait for.'),
  run: z.string().nullable().describe("The run's id, where it is one of Ledgerman's own."),
})

export const waits = z
  .strictObject({
    at: z.string(),
    sessions: z.array(waitingSession),
    idleLimitMs: z.number(),
    ended: z
      .array(
        z.strictObject({
          at: z.string(),
          actor: z.string(),
          action: z.enum(['cancel', 'end']),
          pid: z.int(),
          application: z.string().nullable(),
          user: z.string().nullable(),
        }),
      )
      .describe('What was cancelled or ended from here lately.'),
  })
  .meta({ id: 'Waits' })

/** Those that wait for one record, and those that they wait for. */
export const rowWaits = z.strictObject({ sessions: z.array(waitingSession) }).meta({ id: 'RowWaits' })

/** Names the session once more: its start has to be the one that was seen. */
export const endSessionInput = z.strictObject({ startedAt: z.string().min(1) }).meta({ id: 'EndSession' })
export const sessionEnded = z.strictObject({ pid: z.int(), action: z.enum(['cancel', 'end']), done: z.boolean() })

/** What the demo can stage, on the demo target only. */
export const stagedInput = z
  .strictObject({
    what: z.enum(['hold', 'idle', 'edit']),
    seconds: z.number().min(1).max(120).default(30).describe('For how long; it ends on its own.'),
    lock: z.enum(['row', 'table']).default('row'),
    code: z.string().default('P-107').describe('The programme it is about.'),
  })
  .meta({ id: 'Staged' })
export const staged = z.strictObject({ what: z.string(), message: z.string(), endsAt: z.string().nullable() })

export type WaitingSession = z.output<typeof waitingSession>
export type Waits = z.output<typeof waits>
export type StagedInput = z.output<typeof stagedInput>
export type Staged = z.output<typeof staged>
export type SessionEnded = z.output<typeof sessionEnded>
