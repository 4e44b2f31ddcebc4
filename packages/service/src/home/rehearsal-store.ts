import { createHash, randomBytes } from 'node:crypto'
import { LedgermanProblem, printJson } from '@ledgerman/contract'
import type { HomeDatabase } from './home-database.js'

/** For how long a rehearsal can be committed. */
const KEEP_MINUTES = 15

/** What rehearsals saw, for "commit exactly this": short-lived, and for the same actor only. */
export class RehearsalStore {
  constructor(readonly home: HomeDatabase) {}

  /**
   * Keeps what a rehearsal saw.
   *
   * @param subject all that the run asks: a commit has to ask the same.
   * @returns the token that a commit carries.
   */
  async keep(target: string, actor: string, subject: unknown, evidence: unknown): Promise<string> {
    const token = `lgr_${randomBytes(24).toString('base64url')}`
    await this.home.query(
      `with old as (delete from ledgerman_home.rehearsal where expires_at < now())
       insert into ledgerman_home.rehearsal (token_hash, target, actor, subject, evidence, expires_at)
       values ($1, $2, $3, $4, $5, now() + $6 * interval '1 minute') on conflict (token_hash) do nothing`,
      [hash(token), target, actor, digestOf(subject), JSON.stringify(evidence), KEEP_MINUTES],
    )
    return token
  }

  /** @throws LedgermanProblem rehearsal-stale where there is no such rehearsal any more, or something else is asked. */
  async find<Evidence>(token: string, target: string, actor: string, subject: unknown): Promise<Evidence> {
    const [row] = await this.home.query<{ subject: string; evidence: Evidence }>(
      `select subject, evidence from ledgerman_home.rehearsal where token_hash = $1 and target = $2 and actor = $3 and expires_at > now()`,
      [hash(token), target, actor],
    )
    if (!row)
      throw new LedgermanProblem(
        'rehearsal-stale',
        `There is no such rehearsal of yours, or it is older than ${KEEP_MINUTES} minutes. Rehearse again.`,
        { differs: [] },
      )
    if (row.subject !== digestOf(subject))
      throw new LedgermanProblem(
        'rehearsal-stale',
        'Something else was rehearsed: the transaction, its revision, its parameters or its steps differ. Rehearse again.',
        { differs: [{ what: 'the request differs from what was rehearsed' }] },
      )
    return row.evidence
  }
}

function hash(token: string): Buffer {
  return createHash('sha256').update(token).digest()
}

/** A digest of a request, whatever the order of its members. */
export function digestOf(subject: unknown): string {
  return createHash('sha256')
    .update(printJson(sorted(subject)))
    .digest('base64url')
}

function sorted(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(sorted)
  if (value === null || typeof value !== 'object' || Object.getPrototypeOf(value) !== Object.prototype) return value
  return Object.fromEntries(
    Object.entries(value)
      .filter(([, each]) => each !== undefined)
      .sort(([one], [other]) => (one < other ? -1 : 1))
      .map(([name, each]) => [name, sorted(each)]),
  )
}
