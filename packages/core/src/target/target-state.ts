import { HAS_BOOK_SQL } from './known-book.js'
import type { Target } from './target.js'

/** What a person should know of a target before working on it. */
export interface TargetState {
  server: string
  database: string
  book: 'prepared' | 'not prepared'
  warnings: string[]
}

/** `bit_xor` and `set compression` came with it. As `server_version_num` says it. */
const OLDEST = 140_000

/** @throws LedgermanProblem target-unavailable, target-denied */
export async function readTargetState(target: Target): Promise<TargetState> {
  const { rows } = await target.read(STATE_SQL).catch((error: unknown) => {
    throw target.explain(error)
  })
  const [server, database, role, isSuperuser, bypassesRowSecurity, isPrepared, isStandby, mayLose, encoding, isAlone] =
    rows[0] ?? []
  const [version, replicationRole] = rows[0]?.slice(10) ?? []
  const warnings: string[] = []
  if (Number(version) < OLDEST)
    warnings.push(
      `PostgreSQL ${server} is older than 14, which Ledgerman is made for: some of its statements need functions that are not there.`,
    )
  if (replicationRole === 'replica')
    warnings.push(
      `Neither triggers nor foreign keys hold for the role ${role}: session_replication_role is replica. To end that: alter role … reset session_replication_role, or the same for the database.`,
    )
  if (isSuperuser === 't')
    warnings.push(
      `The role ${role} is a superuser: nothing in the database holds it back. Use a role with only the privileges it needs.`,
    )
  else if (bypassesRowSecurity === 't')
    warnings.push(`The role ${role} bypasses row-level security: no policy holds it back.`)
  if (isStandby === 't') warnings.push('It is a standby server: it can be read, and nothing can be changed.')
  if (mayLose === 't')
    warnings.push(
      'What it says is committed can be lost when its machine or its server crashes: synchronous_commit or fsync is off.',
    )
  if (isAlone === 't')
    warnings.push(
      'Each commit waits for a synchronous standby, and none is connected: it ends with the time limit, and what it says is committed is on this server alone. See synchronous_standby_names.',
    )
  if (encoding === 'SQL_ASCII')
    warnings.push(
      'It has no encoding (SQL_ASCII): texts are read as UTF-8, and bytes that are none are shown as U+FFFD. Do not save a value that shows one.',
    )
  return {
    server: server ?? '',
    database: database ?? '',
    book: isPrepared === 't' ? 'prepared' : 'not prepared',
    warnings,
  }
}

const STATE_SQL = `
select current_setting('server_version'), current_database(), r.rolname, r.rolsuper, r.rolbypassrls, ${HAS_BOOK_SQL},
  pg_is_in_recovery(), current_setting('synchronous_commit') = 'off' or current_setting('fsync') = 'off', current_setting('server_encoding'),
  current_setting('synchronous_standby_names') <> '' and current_setting('synchronous_commit') not in ('off', 'local') and not exists (select from pg_stat_replication),
  current_setting('server_version_num'), current_setting('session_replication_role')
from pg_roles r where r.rolname = current_user`
