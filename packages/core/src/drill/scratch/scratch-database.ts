import { LedgermanProblem, printJson, type RecordValues, type ScratchInfo } from '@ledgerman/contract'
import type { Table } from '../../mapping/catalogue/table.js'
import { prepareBook } from '../../book/prepare-book.js'
import type { FindMappingByName } from '../../mapping/links.js'
import { isDatabaseError } from '../../sessions/database-error.js'
import type { Queryable, Rows } from '../../sessions/queryable.js'
import type { Session } from '../../sessions/session-pool.js'
import { Target } from '../../target/target.js'
import type { Mapping } from '../../mapping/mapping.js'
import { toTextArray } from '../../sessions/text-array.js'
import type { DrillOptions } from '../drill-options.js'
import { ofRun } from '../of-run.js'
import { Collector, collectRows, type CopiedTable } from './collect-rows.js'
import { dumpSchema } from './dump-schema.js'
import { dropDatabase, makeDatabase, urlOf } from './home-server.js'
import { answers, homeLost, isOfLoss } from './lost-scratch.js'
import { maskedValue } from './mask-value.js'
import { observeRun, type Drilled } from './observe-run.js'
import { restoreSchema } from './restore-schema.js'
import { insertRowsSql, rowAlias, sameRowSql } from './row-text.js'
import { readSequences, startSequences, type SequenceStart } from './sequences.js'
import { differences, keyColumns, readRow, SnapshotReader, type Snapshot, type SnapshotDifference } from './snapshot.js'

const SESSIONS = 110
/** How long sessions may take to come back before they are broken off, in milliseconds. */
const CLOSE_LIMIT_MS = 1_000
const LOCK_WAIT_MS = 10_000
const TIME_LIMIT_MS = 20_000

/** Where a scratch database is built, and of what. */
export interface ScratchSource {
  target: Target
  targetUrl: string
  /** A database of the home server, whose role may create others. */
  homeUrl: string
  findMapping: FindMappingByName
  /** What the dump tool is started with. */
  env: Readonly<Record<string, string | undefined>>
  /** By table, the columns that hold what must not be seen. */
  sensitive: ReadonlyMap<string, ReadonlySet<string>>
}

/**
 * A database on the home server with the target's schema and just the rows that some runs reach, where nothing can be harmed.
 * Dropped with `drop`; what a crash leaves behind is dropped by `sweepScratch`.
 */
export class ScratchDatabase {
  readonly #keeper: Session
  readonly #reader: SnapshotReader
  #sequences: SequenceStart | null = null
  /** For whom the runs are. */
  #actor = ''
  #pristine: Snapshot = new Map()
  #keys: Set<string> | undefined

  private constructor(
    readonly name: string,
    readonly source: ScratchSource,
    readonly target: Target,
    readonly info: ScratchInfo,
    keeper: Session,
    tables: readonly Table[],
  ) {
    this.#keeper = keeper
    this.#reader = new SnapshotReader(tables)
  }

  /**
   * Builds one for these runs. The target is asked what they reach by running their steps there and rolling them back.
   *
   * @throws LedgermanProblem scratch-unavailable, target-unavailable, and what `resolvePlan` and `readParams` throw.
   */
  static async build(
    source: ScratchSource,
    drilled: readonly Drilled[],
    { signal }: Pick<DrillOptions, 'signal'> = {},
  ): Promise<ScratchDatabase> {
    const started = performance.now()
    const { target, homeUrl } = source
    const [dump, reached, searchPath] = await Promise.all([
      dumpSchema(target, source.targetUrl, source.env, signal),
      reachedRows(source, drilled),
      searchPathOf(target),
    ])
    const name = await makeDatabase(homeUrl)
    let scratch: Target | undefined
    let keeper: Session | undefined
    try {
      scratch = new Target({
        name: target.name,
        url: urlOf(homeUrl, name),
        connections: SESSIONS,
        limits: { lockWaitMs: LOCK_WAIT_MS, timeLimitMs: TIME_LIMIT_MS, idleMs: 600_000 },
        digestKey: target.digestKey,
      })
      const notRestored = await restoreIn(scratch, dump.sql, searchPath)
      keeper = await scratch.session()
      await asReplica(keeper)
      const tables = (await scratch.tables()).filter(({ kind }) => kind === 'table' || kind === 'partitioned table')
      await fill(keeper, reached.copied, source.sensitive)
      for (const { sql, rowSecurity } of tables) if (rowSecurity) await secure(keeper, sql, name)
      await keeper.query(`select pg_catalog.set_config('ledgerman.keeper', $1, false)`, [name])
      await prepareBook(scratch)
      await analyze(keeper, reached.copied)
      const info = {
        tables: reached.copied.map(({ table, rows }) => ({ table: table.path, rows: rows.size })),
        notes: [...dump.notes, ...notRestored, ...reached.notes, ...maskNotes(reached.copied, source.sensitive)],
        builtMs: 0,
      }
      const built = new ScratchDatabase(name, source, scratch, info, keeper, tables)
      built.#actor = drilled[0]?.actor ?? ''
      await built.#begin()
      info.builtMs = Math.round(performance.now() - started)
      return built
    } catch (error) {
      // Nothing but the numbers of its sequences is asked of the target here, when there is a keeper.
      const isHere = keeper !== undefined && (await answers(keeper))
      keeper?.release(true)
      await scratch?.close(CLOSE_LIMIT_MS).catch(() => undefined)
      await dropDatabase(homeUrl, name)
      throw isOfLoss(error) && !isHere ? homeLost(error) : error
    }
  }

  /** Numbers go on where they are in the target, and begin there again with every reset. */
  async #begin(): Promise<void> {
    this.#sequences = await readSequences(this.source.target, this.#keeper)
    if (this.#sequences) {
      this.info.notes.push(...this.#sequences.notes)
      await startSequences(this.#keeper, this.#sequences)
    }
    this.#pristine = await this.snapshot()
  }

  /** A session for one of the runs, with the planner as it would be on larger tables: it goes by an index where there is one. */
  async runSession(): Promise<Session> {
    const session = await this.target.session()
    try {
      await session.query('set enable_seqscan = off')
      return session
    } catch (error) {
      session.release(true)
      throw error
    }
  }

  /** Whether a row was added since the beginning: none of its key was there then. */
  isNew({ path, ...table }: Table, keyTexts: readonly (string | null)[]): boolean {
    this.#keys ??= new Set(
      [...this.#pristine.values()].map(({ table: own, json }) => {
        const row = readRow(json) ?? {}
        return `${own.path}\0${keyColumns(own)
          .map((name) => plainText(row[name]))
          .join('\0')}`
      }),
    )
    return keyColumns({ path, ...table }).length > 0 && !this.#keys.has(`${path}\0${keyTexts.join('\0')}`)
  }

  /**
   * Fetches a record that a run asked for in vain, and that is on the target.
   *
   * @returns whether there is more to try with than before.
   */
  async fetchMissing(mapping: Mapping, key: RecordValues): Promise<boolean> {
    const collector = new Collector(this.source.target, this.#actor)
    const named = Object.entries(key).flatMap(([name, value]) => {
      const property = mapping.byName.get(name)
      return property && value !== null ? [[property.column.name, plainText(value)] as const] : []
    })
    if (named.length === 0) return false
    collector.ask(
      mapping.table.path,
      named.map(([column]) => column),
      named.map(([, text]) => text),
    )
    await collector.fetchAll()
    const before = this.#pristine.size
    await fill(this.#keeper, [...collector.copied.values()], this.source.sensitive)
    this.#pristine = await this.snapshot()
    this.#keys = undefined
    const fetched = this.#pristine.size - before
    if (fetched > 0) {
      this.info.notes.push(`Rows that only another order of the runs asks for: ${fetched}.`)
      const counts = new Map<string, number>()
      for (const { table } of this.#pristine.values()) counts.set(table.path, (counts.get(table.path) ?? 0) + 1)
      this.info.tables = [...counts].map(([table, rows]) => ({ table, rows }))
    }
    return fetched > 0
  }

  /** All rows as they are now, as a session sees them: by default one of its own, so that only what was committed counts. */
  snapshot(session: Queryable = this.#keeper): Promise<Snapshot> {
    return this.#reader.take(session)
  }

  /** What differs from the beginning. */
  async differing(session: Queryable = this.#keeper): Promise<SnapshotDifference[]> {
    return differences(this.#pristine, await this.snapshot(session))
  }

  /** Puts back what differs. Nothing fires, and no key is looked at: all is as it was afterwards. */
  async reset(found?: readonly SnapshotDifference[]): Promise<void> {
    const differing = found ?? (await this.differing())
    if (differing.length > 0) {
      const tables = new Set(differing.map(({ table }) => table))
      await this.#keeper.query('begin')
      for (const table of tables) {
        const own = differing.filter((each) => each.table === table)
        const isKeyed = keyColumns(table).length > 0
        const old = isKeyed
          ? own.flatMap(({ beforeText }) => beforeText ?? [])
          : [...this.#pristine.values()].filter((row) => row.table === table).map(({ text }) => text)
        if (isKeyed) {
          const gone = own.flatMap(({ afterText }) => afterText ?? [])
          const alias = rowAlias(table)
          const same = sameRowSql(table, alias, keyColumns(table))
          const from = table.hasChildren ? `only ${table.sql}` : table.sql
          await this.#keeper.query(
            `delete from ${from} as ${alias} using pg_catalog.unnest($1::text[]) as given(whole) where ${same}`,
            [toTextArray(gone)],
          )
        } else await this.#keeper.query(`delete from ${table.hasChildren ? 'only ' : ''}${table.sql}`)
        if (old.length > 0) await insertRows(this.#keeper, table, old)
      }
      await this.#keeper.query('commit')
    }
    if (this.#sequences) await startSequences(this.#keeper, this.#sequences)
  }

  /** Asks as nobody who takes part: which sessions of these wait for a lock. */
  async blocked(pids: readonly number[]): Promise<Set<number>> {
    const { rows } = await this.#keeper.query(
      'select pid from pg_catalog.unnest($1::integer[]) as pid where pg_catalog.cardinality(pg_catalog.pg_blocking_pids(pid)) > 0',
      [`{${pids.join(',')}}`],
      'drill_blocked',
    )
    return new Set(rows.map(([pid]) => Number(pid)))
  }

  /** Runs a statement with nothing firing and no key looked at. */
  asKeeper(text: string, values: readonly (string | null)[] = []): Promise<Rows> {
    return this.#keeper.query(text, values)
  }

  /** @throws LedgermanProblem scratch-unavailable where it was lost, be it that its server is back: no look at it can be trusted then. */
  async assertThere(): Promise<void> {
    if (!(await answers(this.#keeper))) throw homeLost()
  }

  /** What has gone wrong, told as the loss of this database where that is why. */
  async explainLost(error: unknown): Promise<unknown> {
    return isOfLoss(error) && !(await answers(this.#keeper)) ? homeLost(error) : error
  }

  get tables(): readonly Table[] {
    return this.#reader.tables
  }

  /** Its address, with its password. */
  get url(): string {
    return urlOf(this.source.homeUrl, this.name)
  }

  async drop(): Promise<void> {
    this.#keeper.release(true)
    await this.target.close(CLOSE_LIMIT_MS)
    await dropDatabase(this.source.homeUrl, this.name)
  }
}

async function reachedRows(source: ScratchSource, drilled: readonly Drilled[]) {
  const observed = []
  // One after the other: they would wait for each other's locks, which is for later.
  for (const each of drilled) observed.push(...(await ofRun(each.at, () => observeRun(source.target, each))))
  return collectRows(source.target, drilled, observed, source.findMapping)
}

async function restoreIn(scratch: Target, sql: string, searchPath: string): Promise<string[]> {
  const session = await scratch.session()
  try {
    const notes = await restoreSchema(session, sql)
    // What a database sets for its sessions is no part of a dump: functions may rely on it.
    await session.query(`select pg_catalog.set_config('search_path', $1, false)`, [searchPath])
    await session.query(ALTER_PATH_SQL)
    return notes
  } finally {
    // The dump leaves settings behind.
    session.release(true)
  }
}

/** Has the planner know of the rows that there are. Of all tables, and of the catalogue, it would take as long as all the rest. */
async function analyze(session: Session, copied: readonly CopiedTable[]): Promise<void> {
  const filled = copied.filter(({ table: { kind }, rows }) => rows.size > 0 && /^(?:partitioned )?table$/.test(kind))
  if (filled.length > 0) await session.query(`analyze ${filled.map(({ table }) => table.sql).join(', ')}`)
}

/** The schemas that an unqualified name is looked for in on the target, without those that are there for every session. */
async function searchPathOf(target: Target): Promise<string> {
  const { rows } = await target.read(
    `select coalesce(pg_catalog.string_agg(pg_catalog.quote_ident(name), ', ' order by at), 'pg_catalog')
     from pg_catalog.unnest(pg_catalog.current_schemas(false)) with ordinality as path(name, at)`,
  )
  return rows[0]?.[0] ?? 'public'
}

/** Sets the search path of this session for all sessions of its database. */
const ALTER_PATH_SQL = `do $$ begin
  execute pg_catalog.format('alter database %I set search_path = %s', pg_catalog.current_database(), pg_catalog.current_setting('search_path'));
end $$`

/**
 * Has policies hold for the runs, whose role owns the table here, and not for the keeper, who sees every row and puts it back: only its
 * session knows the word.
 */
async function secure(keeper: Session, table: string, word: string): Promise<void> {
  const isKeeper = `pg_catalog.current_setting('ledgerman.keeper', true) operator(pg_catalog.=) '${word}'`
  await keeper.query(`alter table ${table} force row level security`)
  await keeper.query(`create policy ${word} on ${table} using (${isKeeper}) with check (${isKeeper})`)
}

/** Nothing fires and no reference is checked in a session that plays back what happened elsewhere. */
async function asReplica(session: Session): Promise<void> {
  try {
    await session.query('set session_replication_role = replica')
  } catch (error) {
    if (!isDatabaseError(error) || error.code !== '42501') throw error
    const { rows } = await session.query(`select quote_ident(current_user), current_setting('server_version_num')`)
    const [role = '', version] = rows[0] ?? []
    throw new LedgermanProblem(
      'scratch-unavailable',
      Number(version) >= 150_000
        ? `The role ${role} of the home database may not put rows back between trials. As a superuser there: grant set on parameter session_replication_role, deadlock_timeout to ${role}`
        : `The role ${role} of the home database may not put rows back between trials: before PostgreSQL 15 that takes a superuser. Use a home server of version 15 or later, or such a role.`,
      { role },
    )
  }
}

async function fill(
  session: Session,
  copied: readonly CopiedTable[],
  sensitive: ScratchSource['sensitive'],
): Promise<void> {
  for (const { table, rows } of copied) {
    const hidden = sensitive.get(table.path) ?? new Set<string>()
    try {
      const all = [...rows.values()]
      const shown = hidden.size === 0 ? all.map(() => null) : all.map(({ json }, at) => hide(json, hidden, at + 1))
      if (all.length > 0)
        await session.query(insertRowsSql(table, hidden, keyColumns(table)), [
          toTextArray(all.map(({ text }) => text)),
          toTextArray(shown),
        ])
    } catch (error) {
      if (!isDatabaseError(error)) throw error
      const why =
        hidden.size > 0 ? ' Its sensitive values are replaced, and a constraint may not take what stands for them.' : ''
      throw new LedgermanProblem(
        'scratch-unavailable',
        `The rows of ${table.path} could not be copied: ${error.message}.${why}`,
        { table: table.path },
        { cause: error },
      )
    }
  }
}

async function insertRows(session: Queryable, table: Table, texts: readonly string[]): Promise<void> {
  await session.query(insertRowsSql(table, new Set(), []), [toTextArray(texts), toTextArray(texts.map(() => null))])
}

function hide(json: string, hidden: ReadonlySet<string>, number: number): string {
  const row = readRow(json) ?? {}
  for (const name of hidden) if (Object.hasOwn(row, name)) row[name] = maskedValue(row[name], number) as never
  return printJson(row)
}

function maskNotes(copied: readonly CopiedTable[], sensitive: ScratchSource['sensitive']): string[] {
  return copied.flatMap(({ table }) => {
    const hidden = [...(sensitive.get(table.path) ?? [])]
    return hidden.length > 0 ? [`Sensitive values are replaced: ${hidden.join(', ')} of ${table.path}.`] : []
  })
}

/** A key's value as PostgreSQL writes it, out of its JSON form. */
function plainText(value: unknown): string {
  return typeof value === 'string' ? value : printJson(value)
}
