import type { TargetActivity } from './activity.js'

/** What a statement gives back: rows as arrays of PostgreSQL's own text forms, so that no driver default can lose a digit. */
export interface Rows {
  rows: (string | null)[][]
  /** The command tag, such as `COMMIT` or `ROLLBACK`. */
  command: string
  rowCount: number | null
  /** The columns of the rows, in order: as PostgreSQL names them, which need not differ; where PostgreSQL was asked. */
  fields?: readonly { name: string }[]
}

/** The text of a statement, and the name under which it is prepared once a session. */
export interface NamedText {
  readonly text: string
  readonly name: string
}

/** One database session, or a pool of them. */
export interface Queryable {
  /**
   * Runs one statement. `name` has it prepared once a session under that name.
   *
   * @throws DatabaseError of the driver, or a connection error.
   */
  query(text: string, values?: readonly (string | null)[], name?: string): Promise<Rows>
}

/** What sees to other sessions, in sessions that are there when all others wait. */
export interface Lookout {
  /** Looks who waits for whom, or ends what a session runs. */
  control(text: string, values?: readonly (string | null)[], name?: string): Promise<Rows>
  /** Cancels what runs in a session; the caller has to hold that session until this is done. @returns whether the cancel was sent */
  cancel(pid: number): Promise<boolean>
  /** The same where nobody waits for it any more: where no cancel can be sent its connection is broken off. */
  giveUp(session: { readonly pid: number; breakOff(): void }): Promise<void>
  /** Makes a problem of whatever went wrong. */
  explain(error: unknown): unknown
  readonly activity: TargetActivity
}
