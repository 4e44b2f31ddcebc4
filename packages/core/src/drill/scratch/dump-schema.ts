import { execFile } from 'node:child_process'
import { existsSync, readdirSync } from 'node:fs'
import { join } from 'node:path'
import { LedgermanProblem } from '@ledgerman/contract'
import type { Target } from '../../target/target.js'
import { withDumpAddress, type ToolEnvironment } from './dump-address.js'
import { someNames } from './some-names.js'

const DEBIAN_POSTGRES = '/usr/lib/postgresql'
/** How long a dump may take, and wait for a lock on each table, in milliseconds. */
const LONGEST_DUMP_MS = 60_000
const LOCK_WAIT_MS = 5_000
const LONGEST_DUMP_BYTES = 256 * 1024 * 1024

/**
 * The target's schema as PostgreSQL's own dump tool writes it, without owners and privileges, without the book, and without
 * what the target's role may not read.
 *
 * @param env the environment that the tool is started with.
 * @returns the statements, and what was left out.
 * @throws LedgermanProblem scratch-unavailable where the tool is missing, older than the server, or fails.
 */
export async function dumpSchema(
  target: Target,
  targetUrl: string,
  env: ToolEnvironment,
  signal?: AbortSignal,
): Promise<{ sql: string; notes: string[] }> {
  const { rows } = await target.read(UNREADABLE_SQL)
  const [version, ...unreadable] = rows.map(([kind, name]) => ({ kind, name: name ?? '' }))
  const tool = await findDumpTool(Math.floor(Number(version?.name) / 10_000), env)
  const args = [
    '--schema-only',
    '--no-owner',
    '--no-privileges',
    '--no-publications',
    '--no-subscriptions',
    '--no-security-labels',
    '--no-tablespaces',
    `--lock-wait-timeout=${LOCK_WAIT_MS}`,
    '--exclude-schema=ledgerman',
    ...unreadable.map(({ kind, name }) => `--exclude-${kind}=${name}`),
  ]
  const sql = await withDumpAddress(targetUrl, env, (addressed) => run(tool, args, addressed, signal))
  // Lines for the terminal program that usually reads this.
  const statements = sql.replace(/^\\(?:un)?restrict .*$/gm, '')
  return { sql: statements, notes: ['schema', 'table'].flatMap((kind) => leftOut(kind, unreadable)) }
}

function leftOut(kind: string, unreadable: readonly { kind: unknown; name: string }[]): string[] {
  const names = unreadable.filter((each) => each.kind === kind).map(({ name }) => name)
  if (names.length === 0) return []
  const what = names.length === 1 ? `One ${kind} is` : `${names.length} ${kind}s are`
  return [
    `${what} left out, since the target's role may not read ${names.length === 1 ? 'it' : 'them'}: ${someNames(names)}.`,
  ]
}

/** First the server's version; then schemas and tables that the role may not read, as patterns that match just these. */
const UNREADABLE_SQL = `
select 'version', current_setting('server_version_num')
union all
select 'schema', quote_ident(nspname) from pg_namespace
  where nspname !~ '^pg_' and nspname not in ('information_schema', 'ledgerman') and not has_schema_privilege(oid, 'usage')
union all
select 'table', format('%I.%I', n.nspname, c.relname) from pg_class c join pg_namespace n on n.oid = c.relnamespace
  where c.relkind in ('r', 'p', 'f', 'm', 'v') and n.nspname !~ '^pg_' and n.nspname not in ('information_schema', 'ledgerman')
    and has_schema_privilege(n.oid, 'usage') and not has_table_privilege(c.oid, 'select')`

/** The oldest installed tool that is not older than the server: an older one refuses. */
async function findDumpTool(serverMajor: number, env: NodeJS.ProcessEnv): Promise<string> {
  const versions = existsSync(DEBIAN_POSTGRES)
    ? readdirSync(DEBIAN_POSTGRES)
        .map(Number)
        .sort((a, b) => a - b)
    : []
  const fitting = versions
    .filter((version) => version >= serverMajor)
    .map((version) => join(DEBIAN_POSTGRES, String(version), 'bin/pg_dump'))
    .find((path) => existsSync(path))
  if (fitting) return fitting
  const said = await run('pg_dump', ['--version'], env).catch(() => null)
  const advice = `Drills need PostgreSQL's client programs of version ${serverMajor} or later where the service runs, such as Debian's package postgresql-client-${serverMajor}.`
  if (said === null)
    throw new LedgermanProblem('scratch-unavailable', `PostgreSQL's dump tool pg_dump is not installed. ${advice}`)
  const major = Number(/\b(\d+)(?:\.\d+|beta|rc|devel)/.exec(said)?.[1])
  if (major >= serverMajor) return 'pg_dump'
  throw new LedgermanProblem(
    'scratch-unavailable',
    `pg_dump is of version ${major}, older than the target's server, which is of version ${serverMajor}. ${advice}`,
    { found: major, needed: serverMajor },
  )
}

function run(tool: string, args: string[], env: NodeJS.ProcessEnv, signal?: AbortSignal): Promise<string> {
  return new Promise((resolve, reject) => {
    const limits = { maxBuffer: LONGEST_DUMP_BYTES, timeout: LONGEST_DUMP_MS, ...(signal ? { signal } : {}) }
    execFile(tool, args, { env, ...limits }, (error, stdout, stderr) => {
      if (!error) return resolve(stdout)
      if (signal?.aborted)
        return reject(new LedgermanProblem('cancelled', 'The caller went away, so the drill was stopped.'))
      const isLate = error.killed === true && error.signal === 'SIGTERM'
      const said = isLate
        ? `it took longer than ${LONGEST_DUMP_MS / 1000} s`
        : stderr.trim().split('\n').slice(0, 3).join(' ') || error.message
      reject(
        new LedgermanProblem(
          'scratch-unavailable',
          `The target's schema could not be dumped: ${said}`,
          {},
          {
            cause: error,
          },
        ),
      )
    })
  })
}
