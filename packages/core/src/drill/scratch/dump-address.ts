import { mkdtemp, readFile, rm, writeFile } from 'node:fs/promises'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { rootCertificates } from 'node:tls'
import { parse, type ConnectionOptions } from 'pg-connection-string'

/** The environment that PostgreSQL's own programs are started with. */
export type ToolEnvironment = Record<string, string | undefined>

/**
 * Has `work` start PostgreSQL's own programs with where a database is, told in their environment ("libpq Environment Variables"): other users of the machine
 * do not see it there, and an address of the driver's may have parts that are none of theirs, or mean something else.
 *
 * @param address as the driver takes it
 * @param env what is in the environment beside it
 */
export async function withDumpAddress<T>(
  address: string,
  env: ToolEnvironment,
  work: (env: ToolEnvironment) => Promise<T>,
): Promise<T> {
  const parts = parse(address)
  const folder = isCheckedByDefault(parts) ? await mkdtemp(join(tmpdir(), 'ledgerman-')) : undefined
  try {
    if (folder !== undefined) parts['sslrootcert'] = await writeRoots(folder, env)
    // Where neither names a host, the driver takes this one and libpq a socket.
    return await work({ ...env, PGHOST: env['PGHOST'] ?? 'localhost', PGCONNECT_TIMEOUT: '5', ...variablesOf(parts) })
  } finally {
    if (folder !== undefined) await rm(folder, { recursive: true, force: true })
  }
}

/** Each part that both know, by the name it has in the environment. */
const VARIABLES: Readonly<Record<string, string>> = {
  host: 'PGHOST',
  port: 'PGPORT',
  user: 'PGUSER',
  password: 'PGPASSWORD',
  database: 'PGDATABASE',
  options: 'PGOPTIONS',
  sslrootcert: 'PGSSLROOTCERT',
  sslcert: 'PGSSLCERT',
  sslkey: 'PGSSLKEY',
}

/** No variable for a part that the address does not give: then the one of the environment holds, as it does for the driver. */
function variablesOf(parts: ConnectionOptions): Record<string, string> {
  const given = Object.entries(VARIABLES).flatMap(([part, variable]) => {
    const value = parts[part]
    return typeof value === 'string' && value !== '' ? [[variable, value] as const] : []
  })
  const mode = sslModeOf(parts)
  return { ...Object.fromEntries(given), ...(mode === undefined ? {} : { PGSSLMODE: mode }) }
}

/** How the driver takes the address, in libpq's words ("SSL Mode Descriptions"). */
function sslModeOf({ ssl }: ConnectionOptions): string | undefined {
  if (ssl === undefined) return undefined
  if (ssl === false) return 'disable'
  if (typeof ssl !== 'object') return 'verify-full'
  if (ssl.rejectUnauthorized === false) return 'require'
  return 'checkServerIdentity' in ssl ? 'verify-ca' : 'verify-full'
}

/** Whether a certificate is checked against those that Node trusts, of which libpq knows nothing. */
function isCheckedByDefault(parts: ConnectionOptions): boolean {
  return parts['sslrootcert'] === undefined && sslModeOf(parts)?.startsWith('verify-') === true
}

async function writeRoots(folder: string, env: ToolEnvironment): Promise<string> {
  const path = join(folder, 'roots.pem')
  const extra = env['NODE_EXTRA_CA_CERTS']
  const more = extra === undefined ? '' : await readFile(extra, 'utf8').catch(() => '')
  await writeFile(path, [...rootCertificates, more].join('\n'))
  return path
}
