import { createHash, randomBytes } from 'node:crypto'
import { LedgermanProblem, type NewToken, type Role, type TokenInfo, type TokenInput } from '@ledgerman/contract'
import type { HomeDatabase } from './home-database.js'
import { KeptAnswers } from './kept-answers.js'

/** Who calls: the token's name is the actor of every entry it causes. */
export interface Caller {
  tokenId: string
  actor: string
  role: Role
  targets: string[] | null
  /** The mappings and transactions it is limited to; null where it is not. */
  only: string[] | null
}

/** For how long a token is trusted without asking the home database again, in milliseconds. A revoked one ends within that. */
const TRUST_MS = 1_000
const SESSION_HOURS = 12

/**
 * Tokens and browser sessions. Only SHA-256 hashes are kept: a token has 256 random bits, so a plain hash cannot be
 * guessed back.
 */
export class TokenStore {
  /** One that is not known is asked for each time: it may have been made just now. */
  readonly #known = new KeptAnswers<Caller | undefined>(10_000, TRUST_MS, (caller) => caller !== undefined)

  constructor(readonly home: HomeDatabase) {}

  /** The caller a token stands for; undefined where it is not known, or was revoked. */
  findCaller(token: string): Promise<Caller | undefined> {
    return this.#find(
      'token',
      token,
      `select id, name, role, targets, only_names from ledgerman_home.token where hash = $1 and revoked_at is null`,
    )
  }

  /** The caller a browser session stands for. */
  findSessionCaller(session: string): Promise<Caller | undefined> {
    return this.#find(
      'session',
      session,
      `select t.id, t.name, t.role, t.targets, t.only_names from ledgerman_home.session s join ledgerman_home.token t on t.id = s.token_id
       where s.hash = $1 and s.expires_at > now() and t.revoked_at is null`,
    )
  }

  /** @throws LedgermanProblem request-invalid where the name is taken. */
  async add(input: TokenInput): Promise<NewToken> {
    const token = `lgm_${randomBytes(32).toString('base64url')}`
    const row = await this.home.transaction(async (query) => {
      // Whoever makes one of the same name at the same time waits, and finds it taken.
      await query(`select pg_advisory_xact_lock(hashtextextended('token ' || lower($1), 4680))`, [input.name])
      const [added] = await query<TokenRow>(
        `insert into ledgerman_home.token (name, role, targets, hash, only_names) select $1, $2, $3, $4, $5
         where not exists (select from ledgerman_home.token where lower(name) = lower($1) and revoked_at is null) returning *`,
        [input.name, input.role, input.targets ?? null, hash(token), input.only ?? null],
      )
      return added
    })
    if (!row) {
      const others = (await this.list(null)).map(({ name }) => name)
      const same = others.find((name) => name.toLowerCase() === input.name.toLowerCase()) ?? input.name
      const only = same === input.name ? '' : `, which differs in letter case only`
      throw new LedgermanProblem(
        'request-invalid',
        `There is a token named ${same} already${only}. Its name is the actor of its entries, so each needs its own.`,
        { where: 'name' },
      )
    }
    return { ...toInfo(row), token }
  }

  /** @param targets those that the caller may see; all where null */
  async list(targets: readonly string[] | null): Promise<TokenInfo[]> {
    const rows = await this.home.query<TokenRow>(
      'select * from ledgerman_home.token where revoked_at is null order by created_at',
    )
    return rows.map(toInfo).filter((token) => isWithin(token.targets, targets))
  }

  /** Whether there is a token that may do everything. */
  async hasAdmin(): Promise<boolean> {
    return (await this.list(null)).some(mayDoAll)
  }

  /**
   * Revokes a token; the last one that may do everything stays, since nobody could make another.
   *
   * @throws LedgermanProblem not-found, request-invalid
   */
  async revoke(id: string, targets: readonly string[] | null): Promise<void> {
    const known = (await this.list(targets)).find((token) => token.id === id.toLowerCase())
    if (!known) throw new LedgermanProblem('not-found', `There is no token ${id}.`, { token: id })
    // Two who revoke one another wait for each other's rows, and the second finds itself the last one.
    const gone = await this.home.query(
      `with admins as materialized (select id from ledgerman_home.token
         where role = 'admin' and targets is null and only_names is null and revoked_at is null order by id for update)
       update ledgerman_home.token set revoked_at = coalesce(revoked_at, now())
       where id = $1 and (revoked_at is not null or id <> all (select id from admins) or (select count(*) from admins) > 1) returning 1`,
      [known.id],
    )
    if (gone.length === 0)
      throw new LedgermanProblem(
        'request-invalid',
        `${known.name} is the last token of an admin without limits. Make another first, or nobody could.`,
        { where: 'id' },
      )
    this.#known.clear()
  }

  /** Opens a browser session for a token's owner and gives the secret for its cookie. */
  async openSession(caller: Caller): Promise<{ secret: string; seconds: number }> {
    const secret = randomBytes(32).toString('base64url')
    await this.home.query(
      `with old as (delete from ledgerman_home.session where expires_at < now())
       insert into ledgerman_home.session (hash, token_id, expires_at) values ($1, $2, now() + $3 * interval '1 hour') on conflict (hash) do nothing`,
      [hash(secret), caller.tokenId, SESSION_HOURS],
    )
    return { secret, seconds: SESSION_HOURS * 3600 }
  }

  async closeSession(secret: string): Promise<void> {
    await this.home.query('delete from ledgerman_home.session where hash = $1', [hash(secret)])
    this.#known.delete(`session ${secret}`)
  }

  /** A session's secret is no token, and a token no session's: what is known of one says nothing of the other. */
  #find(kind: 'token' | 'session', secret: string, sql: string): Promise<Caller | undefined> {
    return this.#known.get(`${kind} ${secret}`, async () => {
      const [row] = await this.home.query<Pick<TokenRow, 'id' | 'name' | 'role' | 'targets' | 'only_names'>>(sql, [
        hash(secret),
      ])
      if (!row) return undefined
      await this.home.query(
        `update ledgerman_home.token set last_used_at = now() where id = $1 and last_used_at is distinct from now() and coalesce(last_used_at, '-infinity') < now() - interval '1 minute'`,
        [row.id],
      )
      return { tokenId: row.id, actor: row.name, role: row.role, targets: row.targets, only: row.only_names }
    })
  }
}

/** Whether a token for these targets is for no others than those; null stands for all. */
export function isWithin(targets: readonly string[] | null, others: readonly string[] | null): boolean {
  return others === null || (targets !== null && targets.every((name) => others.includes(name)))
}

function mayDoAll({ role, targets, only }: Pick<TokenInfo, 'role' | 'targets' | 'only'>): boolean {
  return role === 'admin' && targets === null && only === null
}

interface TokenRow {
  id: string
  name: string
  role: Role
  targets: string[] | null
  only_names: string[] | null
  created_at: Date
  last_used_at: Date | null
}

function toInfo({ id, name, role, targets, only_names, created_at, last_used_at }: TokenRow): TokenInfo {
  return {
    id,
    name,
    role,
    targets,
    only: only_names,
    createdAt: created_at.toISOString(),
    lastUsedAt: last_used_at?.toISOString() ?? null,
  }
}

function hash(secret: string): Buffer {
  return createHash('sha256').update(secret).digest()
}
