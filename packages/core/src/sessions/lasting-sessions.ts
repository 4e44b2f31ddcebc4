import { randomUUID } from 'node:crypto'
import pg from 'pg'
import { LedgermanProblem } from '@ledgerman/contract'

/** Where sessions are opened. */
export interface SessionAddress {
  /** The target's name. */
  name: string
  url: string
  application: string
}

/** How long each of the questions may take, in milliseconds. */
const LIMIT_MS = 1_500

/** What was found out of a database by an address, or is being found out. */
const checks = new Map<string, Promise<void>>()

/**
 * Sees to it that a session is one: that what is set in it stands there in its next transaction, and reaches nobody else. A proxy that hands the
 * database's sessions round between transactions keeps neither, so that limits would be lost, and other programs' sessions become read-only.
 *
 * Asked once a process and address: the session is given a mark, another session is given another, and the first has to have its own still. Where
 * the other cannot be had nothing is known, and the next session asks again.
 *
 * @throws LedgermanProblem target-unavailable where it does not last
 */
export async function assertSessionsLast(
  client: Pick<pg.ClientBase, 'query'>,
  { name, url, application }: SessionAddress,
): Promise<void> {
  let check = checks.get(url)
  if (!check) {
    check = lasts(client, url, application).then((isKept) => {
      if (isKept !== true) checks.delete(url)
      if (isKept === false)
        throw new LedgermanProblem(
          'target-unavailable',
          `The proxy in front of the database of ${name} hands its sessions round between transactions, so that what one of them is set to is lost, and reaches others. Nothing was sent. Have it keep one session for each connection, or give the address of the database itself.`,
          { target: name },
        )
    })
    check.catch(() => checks.delete(url))
    checks.set(url, check)
  }
  await check
}

/** @returns undefined where nothing is known */
async function lasts(
  client: Pick<pg.ClientBase, 'query'>,
  url: string,
  application: string,
): Promise<boolean | undefined> {
  const mark = (of: Pick<pg.ClientBase, 'query'>, value: string) =>
    ask(of, `select pg_catalog.set_config('ledgerman.session', $1, false)`, [value])
  const own = randomUUID()
  const other = new pg.Client({
    connectionString: url,
    connectionTimeoutMillis: LIMIT_MS,
    application_name: application,
  })
  other.on('error', () => undefined)
  try {
    await Promise.all([mark(client, own), other.connect()])
    await mark(other, randomUUID())
    return (await ask(client, `select pg_catalog.current_setting('ledgerman.session', true)`)) === own
  } catch {
    return undefined
  } finally {
    void other.end().catch(() => undefined)
  }
}

async function ask(client: Pick<pg.ClientBase, 'query'>, text: string, values: string[] = []): Promise<unknown> {
  const query = { text, values, rowMode: 'array', query_timeout: LIMIT_MS } as pg.QueryArrayConfig
  return (await client.query<[unknown]>(query)).rows[0]?.[0]
}
