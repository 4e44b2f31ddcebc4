import { randomBytes } from 'node:crypto'
import pg from 'pg'
import { LedgermanProblem } from '@ledgerman/contract'
import { isConnectionError } from '../../sessions/connection-error.js'
import { isDatabaseError } from '../../sessions/database-error.js'
import { endSession } from '../../sessions/own-session.js'
import { homeLost } from './lost-scratch.js'

const PREFIX = 'ledgerman_drill_'
/** A database may be made and not yet entered for so long, in seconds. */
const YOUNG_S = 60
/** How long the home server may take for making or dropping a database, in milliseconds. */
const HOME_LIMIT_MS = 30_000

/** Makes an empty scratch database; its name says when. @throws LedgermanProblem scratch-unavailable */
export async function makeDatabase(homeUrl: string): Promise<string> {
  return onHome(homeUrl, async (client) => {
    const name = `${PREFIX}${await secondsOf(client)}_${randomBytes(4).toString('hex')}`
    await client.query(`create database ${name}`)
    // What is in it is thrown away: waiting for the disk at each commit would be most of a drill.
    await client.query(`alter database ${name} set synchronous_commit = off`)
    return name
  })
}

/** Drops the scratch databases that nobody is connected to: what a crash left behind. */
export async function sweepScratch(homeUrl: string): Promise<string[]> {
  return onHome(homeUrl, async (client) => {
    const { rows } = await client.query<{ name: string }>(
      `select datname as name from pg_database d where datname like $1 and pg_has_role(current_user, datdba, 'usage')
        and not exists (select from pg_stat_activity a where a.datid = d.oid)`,
      [`${PREFIX.replaceAll('_', '\\_')}%`],
    )
    const dropped: string[] = []
    const now = await secondsOf(client)
    const isOld = ({ name }: { name: string }) => Number(name.split('_')[2]) < now - YOUNG_S
    for (const { name } of rows.filter(isOld))
      // Somebody may just have come in: then it is in use.
      if (
        await client.query(`drop database if exists ${name}`).then(
          () => true,
          () => false,
        )
      )
        dropped.push(name)
    return dropped
  })
}

/** The server's time, in seconds since 1970: services on several machines have clocks of their own. */
async function secondsOf(client: pg.Client): Promise<number> {
  const { rows } = await client.query<{ now: string }>('select extract(epoch from now())::bigint as now')
  return Number(rows[0]?.now)
}

async function onHome<T>(homeUrl: string, work: (client: pg.Client) => Promise<T>): Promise<T> {
  const client = new pg.Client({
    connectionString: homeUrl,
    application_name: 'ledgerman drills',
    connectionTimeoutMillis: HOME_LIMIT_MS,
    query_timeout: HOME_LIMIT_MS,
  })
  client.on('error', () => undefined)
  try {
    await client.connect()
    return await work(client)
  } catch (error) {
    if (isConnectionError(error)) throw homeLost(error)
    if (!isDatabaseError(error) || error.code !== '42501') throw error
    throw new LedgermanProblem(
      'scratch-unavailable',
      `The role of the home database may not create databases, which drills need. As a superuser there: alter role ${decodeURIComponent(asUrl(homeUrl).username)} createdb`,
      {},
      { cause: error },
    )
  } finally {
    await endSession(client)
  }
}

/** Drops a scratch database, whoever is in it; one that cannot be dropped now is left to `sweepScratch`. */
export async function dropDatabase(homeUrl: string, name: string): Promise<void> {
  await onHome(homeUrl, (client) => client.query(`drop database if exists ${name} with (force)`)).catch(() => undefined)
}

/** The address of another database of the same server and role. */
export function urlOf(homeUrl: string, database: string): string {
  const url = asUrl(homeUrl)
  url.pathname = `/${database}`
  return url.toString()
}

/** An address without a host, as of a socket, is none by the rules of URLs; the driver goes by its `host` parameter all the same. */
function asUrl(address: string): URL {
  return new URL(URL.canParse(address) ? address : address.replace('@/', '@localhost/'))
}
