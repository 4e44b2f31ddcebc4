import { createHash } from 'node:crypto'
import { setImmediate as yieldToOthers } from 'node:timers/promises'
import { canonicalJson } from '@ledgerman/seal'
import { LRUCache } from 'lru-cache'
import type { Queryable } from '../../sessions/queryable.js'

/**
 * The columns that an entry's content is put together from, for an entry `e`. The server writes arrays and texts as RFC 8785 has them, so
 * that only what a run holds is read and written again here.
 *
 * Images have no order: each is hashed by itself, and the hashes in their order together.
 */
export const CONTENT_COLUMNS_SQL = `(select pg_catalog.row_to_json(x)::text from (select e.actor, e.after,
  pg_catalog.to_char(e.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at, e.before, e.binds, e.changed, e.detail, e.id,
  case when e.run is not null then (select pg_catalog.row_to_json(i) from (
    select pg_catalog.count(*) as parts,
      pg_catalog.encode(pg_catalog.sha256(coalesce(pg_catalog.string_agg(part.hash, ''::bytea order by part.hash), ''::bytea)), 'hex') as sha256
    from (
      select ${hashSql(['m.step', textSql('m.record'), 'm.key', 'm.before', 'm.after'])} as hash from ledgerman.image m where m.entry = e.id
      union all
      select ${hashSql(['b.step', 'b.bits', textSql('b.prefix'), 'b.rows', 'b.key', 'b.before', 'b.after'])} from ledgerman.image_block b where b.entry = e.id
    ) as part) as i) end as images,
  e.key, e.matched, e.note, e.outcome, e.problem, e.record::text as record, e.request_digest as "requestDigest", e.request_key as "requestKey"
) as x), e.statement, e.run::text, e.steps::text`

function textSql(column: string): string {
  return `${column}::text`
}

/** Of the values as a JSON array. */
function hashSql(values: readonly string[]): string {
  const parts = values.map((value) => `coalesce(pg_catalog.to_json(${value})::text, 'null')`)
  return `pg_catalog.sha256(pg_catalog.convert_to('[' || ${parts.join(` || ',' || `)} || ']', 'UTF8'))`
}

/** An entry as `CONTENT_COLUMNS_SQL` gives it. */
export type ContentRow = readonly [
  base: string | null,
  statement: string | null,
  run: string | null,
  steps: string | null,
]

const MOST_STATEMENTS = 20_000

/** How many contents are put together before others have their turn: some milliseconds' worth of runs. */
const AT_ONCE = 100

/** Puts entries' contents together, as canonical JSON. Digests of statements' rows are kept, since most entries refer to a few. */
export class EntryContents {
  readonly #statements = new LRUCache<string, string>({ max: MOST_STATEMENTS })

  /** @param session where statements are read that are not known yet */
  constructor(readonly session: Queryable) {}

  /** The content of each; in the same order. */
  async of(rows: readonly ContentRow[]): Promise<string[]> {
    const contents: string[] = []
    for (let at = 0; at < rows.length; at += AT_ONCE) {
      contents.push(...(await this.#together(rows.slice(at, at + AT_ONCE))))
      await yieldToOthers()
    }
    return contents
  }

  async #together(rows: readonly ContentRow[]): Promise<string[]> {
    const read = rows.map(([base, statement, run, steps]) => {
      const parsed = steps === null ? null : (JSON.parse(steps) as { statement: string | null }[])
      const stepStatements = Array.isArray(parsed) ? parsed.map((step) => idText(step.statement)) : []
      return {
        base: base ?? '{}',
        run: run === null ? null : (JSON.parse(run) as unknown),
        steps: parsed,
        statements: [statement, ...stepStatements].filter((id) => id !== null),
      }
    })
    const known = await this.#digestsOf(new Set(read.flatMap(({ statements }) => statements)))
    return read.map(({ base, run, steps, statements }) => {
      const digests = statements.map((id) => known.get(id) ?? null)
      return `${base.slice(0, -1)},"run":${canonicalJson(run)},"statements":${canonicalJson(digests)},"steps":${canonicalJson(steps)}}`
    })
  }

  async #digestsOf(ids: ReadonlySet<string>): Promise<Map<string, string>> {
    const digests = new Map<string, string>()
    const unknown: string[] = []
    for (const id of ids) {
      const digest = this.#statements.get(id)
      if (digest === undefined) unknown.push(id)
      else digests.set(id, digest)
    }
    if (unknown.length === 0) return digests
    const { rows } = await this.session.query(
      `select s.id, ((case when s.short is null then pg_catalog.to_jsonb(s) - 'short' else pg_catalog.to_jsonb(s) end) || pg_catalog.jsonb_build_object('id', s.id::text))::text from ledgerman.statement s where s.id = any($1::bigint[])`,
      [`{${unknown.join(',')}}`],
    )
    for (const [id, json] of rows) {
      const digest = createHash('sha256')
        .update(canonicalJson(JSON.parse(json ?? '')))
        .digest('hex')
      this.#statements.set(id ?? '', digest)
      digests.set(id ?? '', digest)
    }
    return digests
  }
}

/** A statement's number in a step, where it is one. */
function idText(id: unknown): string | null {
  return (typeof id === 'string' || typeof id === 'number') && /^-?\d{1,19}$/.test(String(id)) ? String(id) : null
}
