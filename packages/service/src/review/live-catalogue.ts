import { isProblem } from '@ledgerman/contract'
import type { Mapping, Table, Target } from '@ledgerman/core'
import type { Prepared, ReviewCatalogue, ReviewTable } from '@ledgerman/review'

const PREPARED = 'ledgerman_review'

/** How long PostgreSQL may take over one statement, and over the rows that share a value, in milliseconds. */
const STATEMENT_LIMIT_MS = 2_000
const SHARING_LIMIT_MS = 1_000

/** Above so many rows nobody counts how many share a value. */
const MOST_COUNTED_ROWS = 2_000_000

/** Names that say that a column counts the changes of its row. */
const GUARD_NAME = /^(row_?version|lock_?version|version|revision|version_no)$/i

/** The tables of a target, and what its database says of a statement without running it: sessions that can only read are asked. */
export async function liveCatalogue(
  target: Target,
  mappings: readonly Mapping[],
  signal: AbortSignal,
): Promise<ReviewCatalogue> {
  const guards = new Map(
    mappings.flatMap(({ table, guard }) =>
      guard.by === 'version' ? [[table.path, guard.property.column.name] as const] : [],
    ),
  )
  const tables = (await target.tables()).map((table) => toReviewTable(table, guards.get(table.path)))
  const { rows } = await target.readOnly(`select pg_catalog.unnest(pg_catalog.current_schemas(false))`, [], signal)
  const prepared = new Map<string, Promise<Prepared | undefined>>()
  const counted = new Map<string, Promise<{ rows: number; most: number } | undefined>>()
  return {
    tables,
    searchPath: rows.map(([schema]) => schema ?? ''),
    prepare: (text) => kept(prepared, text, () => prepare(target, text, tables, signal)),
    sharing: (table, columns) =>
      kept(counted, `${table.schema}.${table.name} ${columns.join()}`, () => sharing(target, table, columns, signal)),
  }
}

function kept<T>(cache: Map<string, Promise<T>>, key: string, make: () => Promise<T>): Promise<T> {
  let known = cache.get(key)
  if (!known) cache.set(key, (known = make()))
  return known
}

function toReviewTable(table: Table, guard: string | undefined): ReviewTable {
  const [first] = table.keys
  return {
    schema: table.schema,
    name: table.name,
    columns: table.columns.map(({ name, type, notNull, identity, generated }) => ({
      name,
      type: type.sql,
      nullable: !notNull,
      identity,
      generated,
    })),
    keys: [
      ...new Map(
        [...table.keys, ...table.uniques].map(({ columns, partialOver }) => {
          // One row is meant where the condition names what the index holds for as well.
          const all = [...columns, ...(partialOver ?? [])]
          return [all.join('\0'), all] as const
        }),
      ).values(),
    ].filter((columns) => columns.length > 0),
    primaryKey: first?.primary ? first.columns : null,
    guard:
      guard ??
      table.columns.find(({ name, type, notNull }) => notNull && GUARD_NAME.test(name) && /int/.test(type.name))
        ?.name ??
      null,
    rows: table.approximateRows,
  }
}

/** Has a statement prepared, and its plan for any values shown; nothing of it is run. */
function prepare(
  target: Target,
  text: string,
  tables: readonly ReviewTable[],
  signal: AbortSignal,
): Promise<Prepared | undefined> {
  return target
    .inReader(signal, async (session): Promise<Prepared | undefined> => {
      let isPrepared = false
      try {
        await session.query('begin')
        await session.query(
          `select pg_catalog.set_config('statement_timeout', $1, true), pg_catalog.set_config('plan_cache_mode', 'force_generic_plan', true)`,
          [String(STATEMENT_LIMIT_MS)],
        )
        await session.query(`prepare ${PREPARED} as ${text.replace(/;\s*$/, '')}`)
        isPrepared = true
        const { rows } = await session.query(
          `select parameter_types::text[]::text from pg_catalog.pg_prepared_statements where name = '${PREPARED}'`,
        )
        const types = listOf(rows[0]?.[0] ?? '{}')
        const given = types.length > 0 ? `(${types.map(() => 'null').join(', ')})` : ''
        const plan = await session.query(`explain (format json, verbose) execute ${PREPARED}${given}`)
        return { types, problem: null, scanned: scannedIn(plan.rows[0]?.[0] ?? '[]', tables) }
      } catch (error) {
        return refusedWith(error, text)
      } finally {
        await session.query('rollback')
        if (isPrepared) await session.query(`deallocate ${PREPARED}`)
      }
    })
    .catch((error: unknown) => {
      if (isProblem(error, 'cancelled')) throw error
      return undefined
    })
}

/** What PostgreSQL refused it for; undefined where that was not the statement. */
function refusedWith(error: unknown, text: string): Prepared | undefined {
  const { code, message, position, routine } = error as Partial<
    Record<'code' | 'message' | 'position' | 'routine', string>
  >
  if (typeof code !== 'string' || !/^[0-9A-Z]{5}$/.test(code)) throw error
  if (code.startsWith('57') || code.startsWith('08')) return undefined
  const at = position === undefined ? null : Number(position) - 1 - `prepare ${PREPARED} as `.length
  return {
    types: [],
    problem: {
      code,
      message: message ?? code,
      routine: routine ?? null,
      at: at === null || at < 0 || at >= text.length ? null : at,
    },
    scanned: [],
  }
}

interface PlanNode {
  'Node Type': string
  'Relation Name'?: string
  Schema?: string
  Filter?: string
  Plans?: PlanNode[]
}

/** The tables that a plan reads as a whole to keep a part of. */
function scannedIn(json: string, tables: readonly ReviewTable[]): Prepared['scanned'] {
  const [first] = JSON.parse(json) as { Plan: PlanNode }[]
  const scanned: Prepared['scanned'] = []
  const visit = (node: PlanNode) => {
    const { 'Relation Name': name, Schema: schema = '' } = node
    if (/^(Parallel )?Seq Scan$/.test(node['Node Type']) && node.Filter !== undefined && name !== undefined)
      scanned.push({
        schema,
        name,
        rows: tables.find((table) => table.schema === schema && table.name === name)?.rows ?? 0,
      })
    node.Plans?.forEach(visit)
  }
  if (first) visit(first.Plan)
  return scanned
}

/** How many rows have the most common value of these columns. */
async function sharing(
  target: Target,
  table: ReviewTable,
  columns: readonly string[],
  signal: AbortSignal,
): Promise<{ rows: number; most: number } | undefined> {
  if ((table.rows ?? 0) > MOST_COUNTED_ROWS) return undefined
  return target
    .inReader(signal, async (session) => {
      try {
        await session.query('begin')
        await session.query(`select pg_catalog.set_config('statement_timeout', $1, true)`, [String(SHARING_LIMIT_MS)])
        const { rows: names } = await session.query(
          `select pg_catalog.format('%I.%I', $1::text, $2::text), (select pg_catalog.string_agg(pg_catalog.quote_ident(c), ', ') from pg_catalog.unnest($3::text[]) c)`,
          [table.schema, table.name, `{${columns.map((column) => JSON.stringify(column)).join(',')}}`],
        )
        const [path, list] = names[0] ?? []
        const { rows } = await session.query(
          `select coalesce(max(n), 0), coalesce(sum(n) filter (where n > 1), 0) from (select count(*) as n from ${path} group by ${list}) as shared`,
        )
        return { most: Number(rows[0]?.[0]), rows: Number(rows[0]?.[1]) }
      } finally {
        await session.query('rollback')
      }
    })
    .catch((error: unknown) => {
      if (isProblem(error, 'cancelled')) throw error
      return undefined
    })
}

/** PostgreSQL's text of a list of type names. */
function listOf(text: string): string[] {
  return [...text.slice(1, -1).matchAll(/"((?:[^"\\]|\\.)*)"|([^,]+)/g)].map(
    ([, quoted, bare]) => quoted?.replace(/\\(.)/g, '$1') ?? bare ?? '',
  )
}
