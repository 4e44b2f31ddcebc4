import { parseSync } from 'libpg-query'
import { LedgermanProblem, toTablePath } from '@ledgerman/contract'
import type { ForeignKey, Table } from '../../mapping/catalogue/table.js'
import type { FindMappingByName } from '../../mapping/links.js'
import type { Mapping } from '../../mapping/mapping.js'
import { loadGrammar } from '../../plan/load-grammar.js'
import { isWrite } from '../../plan/plan.js'
import type { Target } from '../../target/target.js'
import type { Rows } from '../../sessions/queryable.js'
import { toTextArray } from '../../sessions/text-array.js'
import { equalSql } from '../../values/operator-sql.js'
import { isLoss } from './lost-scratch.js'
import { rowAlias, rowJsonSql, rowTextSql } from './row-text.js'
import { columnSql, keyColumns } from './snapshot.js'
import type { Drilled, ObservedRow } from './observe-run.js'

/** How many rows a scratch database may have, and how many of a table that is not asked by key. */
const MOST_ROWS = 50_000
const MOST_OF_A_TABLE = 1_000
const BYSTANDERS = 3

type Reference = Pick<ForeignKey, 'table' | 'columns' | 'otherColumns'>

/** The rows of one table that are copied, by their key where they have one. */
export interface CopiedTable {
  table: Table
  rows: Map<string, CopiedRow>
}

/** A row in PostgreSQL's own text form, and as JSON for what must not be seen of it. */
export interface CopiedRow {
  text: string
  json: string
}

/**
 * Reads from the target just what the drilled runs read or matched there, and all that those rows refer to; of what they reach
 * in other ways (raw statements, links to many, views) the first rows.
 *
 * @throws LedgermanProblem scratch-unavailable where that is too much.
 */
export async function collectRows(
  target: Target,
  drilled: readonly Drilled[],
  observed: readonly ObservedRow[],
  findMapping: FindMappingByName,
): Promise<{ copied: CopiedTable[]; notes: string[] }> {
  const collector = new Collector(target, drilled[0]?.actor ?? '')
  const links = await linksNamed(drilled, findMapping)
  for (const { mapping, before, after } of observed)
    for (const texts of [before, after]) if (texts) await collector.askFor(mapping, texts, links.get(mapping) ?? [])
  await collector.fetchAll()
  for (const path of tablesChangedByCondition(drilled)) await collector.takeBystanders(path)
  for (const path of [...tablesOfFirstRows(drilled), ...(await relationsOfStatements(target, drilled))])
    await collector.takeFirst(path)
  await collector.fetchAll()
  return { copied: [...collector.copied.values()], notes: collector.notes }
}

/** Reads rows of the target, and what they refer to. */
export class Collector {
  readonly copied = new Map<string, CopiedTable>()
  readonly notes: string[] = []
  /** What is still to be read: by table and columns, the values to find. */
  #asked = new Map<string, { path: string; columns: readonly string[]; values: Map<string, (string | null)[]> }>()
  readonly #known = new Set<string>()
  #count = 0

  /** @param actor for whom the runs are: policies of the target may go by it */
  constructor(
    readonly target: Target,
    readonly actor: string,
  ) {}

  /** The row itself, and what it refers to, also where it is only there after the run. */
  async askFor(mapping: Mapping, texts: readonly (string | null)[], links: readonly Reference[]): Promise<void> {
    const { table } = mapping
    const valueOf = (column: string) => {
      const at = mapping.properties.findIndex((property) => property.column.name === column)
      return at < 0 ? undefined : (texts[at] ?? null)
    }
    if (table.kind === 'view') for (const path of await baseTables(this.target, table)) await this.takeFirst(path)
    else if (mapping.key.length === 0) await this.takeFirst(table.path)
    else {
      const columns = mapping.key.map(({ column }) => column.name)
      this.ask(
        table.path,
        columns,
        columns.map((name) => valueOf(name) ?? null),
      )
    }
    for (const reference of [...table.references, ...links]) this.#askReferred(reference, valueOf)
  }

  ask(path: string, columns: readonly string[], values: readonly (string | null)[]): void {
    if (values.includes(null)) return
    const question = `${path}\0${columns.join('\0')}`
    const value = values.join('\0')
    if (this.#known.has(`${question}\0\0${value}`)) return
    this.#known.add(`${question}\0\0${value}`)
    let asked = this.#asked.get(question)
    if (!asked) this.#asked.set(question, (asked = { path, columns, values: new Map() }))
    asked.values.set(value, [...values])
  }

  #askReferred({ table, columns, otherColumns }: Reference, valueOf: (column: string) => string | null | undefined) {
    const values = columns.map((name) => valueOf(name))
    if (!values.includes(undefined)) this.ask(table, otherColumns, values as (string | null)[])
  }

  /** Reads what is asked for, then what that refers to, until nothing is missing. */
  async fetchAll(): Promise<void> {
    while (this.#asked.size > 0) {
      const asked = [...this.#asked.values()]
      this.#asked = new Map()
      for (const { path, columns, values } of asked) {
        const table = await this.target.table(path)
        const lists = columns.map((_, at) => [...values.values()].map((value) => value[at] ?? null))
        const names = columns.map((_, at) => `a${at}`).join(', ')
        const alias = rowAlias(table)
        const matches = columns.map((name, at) => {
          const column = table.columns.find((each) => each.name === name)
          const asked = `asked.a${at}::${column?.type.comparable ?? 'text'}`
          return column ? equalSql(`${alias}.${column.sql}`, asked, column.type) : 'false'
        })
        const sources = columns.map((_, at) => `pg_catalog.unnest($${at + 1}::text[])`).join(', ')
        await this.#take(
          table,
          lists,
          (own) =>
            `from rows from (${sources}) as asked (${names}) join ${own} as ${alias} on ${matches.join(' and ')}`,
        )
      }
    }
  }

  /** The first rows of a table that is not asked by key. */
  async takeFirst(path: string): Promise<void> {
    if (this.#known.has(path)) return
    this.#known.add(path)
    const table = await this.target.table(path)
    if (table.kind === 'view') {
      for (const base of await baseTables(this.target, table)) await this.takeFirst(base)
      return
    }
    const taken = await this.#take(table, [], (own) => `from ${own} as ${rowAlias(table)} limit ${MOST_OF_A_TABLE}`)
    if (taken === MOST_OF_A_TABLE)
      this.notes.push(`Of ${path}, which is not asked by key, the first ${MOST_OF_A_TABLE} rows are copied.`)
  }

  /** A few rows that the runs do not reach: a condition has to leave some out, as it does in the target. */
  async takeBystanders(path: string): Promise<void> {
    const table = await this.target.table(path)
    const count = (this.copied.get(path)?.rows.size ?? 0) + BYSTANDERS
    await this.#take(table, [], (own) => `from ${own} as ${rowAlias(table)} limit ${count}`)
  }

  /** Rows that policies hide from whoever runs it are not copied. */
  async #read(table: Table, text: string, values: readonly (string | null)[]): Promise<Rows> {
    if (!table.rowSecurity) return this.target.read(text, values)
    return this.target.inReader(undefined, async (session) => {
      await session.query('begin')
      try {
        await session.query(`select pg_catalog.set_config('ledgerman.actor', $1, true)`, [this.actor])
        return await session.query(text, values)
      } finally {
        await session.query('rollback')
      }
    })
  }

  /** @param fromSql what the rows are read from, given the table as it stands in a statement */
  async #take(table: Table, lists: (string | null)[][], fromSql: (own: string) => string): Promise<number> {
    const key = keyColumns(table)
    const references = table.references.flatMap(({ columns }) => columns)
    const alias = rowAlias(table)
    const texts = [...key, ...references].map((name) => `${alias}.${columnSql(table, name)}::text`)
    const own = table.hasChildren ? `only ${table.sql}` : table.sql
    const { rows } = await this.#read(
      table,
      `select ${[rowTextSql(table, alias), rowJsonSql(alias), ...texts].join(', ')} ${fromSql(own)}`,
      lists.map(toTextArray),
    )
    let copied = this.copied.get(table.path)
    if (!copied) this.copied.set(table.path, (copied = { table, rows: new Map() }))
    for (const [text, json, ...values] of rows) {
      const id = key.length > 0 ? values.slice(0, key.length).join('\0') : `${copied.rows.size}`
      if (copied.rows.has(id)) continue
      copied.rows.set(id, { text: text ?? '', json: json ?? '' })
      const referred = new Map(references.map((name, at) => [name, values[key.length + at] ?? null]))
      for (const reference of table.references) this.#askReferred(reference, (column) => referred.get(column))
      if (++this.#count > MOST_ROWS)
        throw new LedgermanProblem(
          'scratch-unavailable',
          `The drilled runs reach more than ${MOST_ROWS} rows. Drill them with parameters that reach fewer.`,
        )
    }
    if (table.hasChildren) for (const path of await childrenOf(this.target, table)) await this.takeFirst(path)
    return rows.length
  }
}

/** The tables that inherit from one: its rows are theirs too. */
async function childrenOf(target: Target, { sql }: Table): Promise<string[]> {
  const { rows } = await target.read(
    `select n.nspname, c.relname from pg_catalog.pg_inherits h join pg_catalog.pg_class c on c.oid = h.inhrelid
      join pg_catalog.pg_namespace n on n.oid = c.relnamespace where h.inhparent = $1::regclass`,
    [sql],
  )
  return rows.map(([schema, name]) => toTablePath(schema ?? '', name ?? ''))
}

function tablesChangedByCondition(drilled: readonly Drilled[]): Set<string> {
  return new Set(
    drilled.flatMap(({ plan }) =>
      plan.steps.flatMap((step) =>
        isWrite(step) && step.isByWhere && step.mapping.table.kind !== 'view' ? [step.mapping.table.path] : [],
      ),
    ),
  )
}

/** The tables of which only the first rows are taken: which those are depends on what others hold. */
function tablesOfFirstRows(drilled: readonly Drilled[]): string[] {
  return drilled.flatMap(({ plan }) =>
    plan.steps.flatMap((step) => (step.kind === 'load' && step.first ? [step.mapping.table.path] : [])),
  )
}

/** The links that expressions of the runs may follow, by the mapping they begin at. */
async function linksNamed(
  drilled: readonly Drilled[],
  findMapping: FindMappingByName,
): Promise<Map<Mapping, Reference[]>> {
  const found = new Map<Mapping, Reference[]>()
  for (const { plan } of drilled) {
    const words = new Set(JSON.stringify(plan.definition.steps).match(/[\p{L}_][\p{L}\p{N}_]*/gu))
    for (const mapping of plan.mappings.values())
      for (const [name, link] of Object.entries(mapping.definition.links ?? {})) {
        if (!words.has(name)) continue
        const other = await findMapping(link.mapping)
        const pairs = Object.entries('many' in link ? link.many : link.on)
        const columnsOf = (of: Mapping, side: 0 | 1) =>
          pairs.map((pair) => of.byName.get(pair[side])?.column.name ?? '')
        const reference = { table: other.table.path, columns: columnsOf(mapping, 0), otherColumns: columnsOf(other, 1) }
        found.set(mapping, [...(found.get(mapping) ?? []), reference])
      }
  }
  return found
}

/** The tables that raw statements name. */
async function relationsOfStatements(target: Target, drilled: readonly Drilled[]): Promise<Set<string>> {
  const paths = new Set<string>()
  for (const { plan } of drilled)
    for (const step of plan.steps) {
      if (step.kind !== 'sql') continue
      await loadGrammar()
      for (const { schema, name } of relationsIn(parseSync(step.statement.text)))
        for (const path of await pathsOf(target, schema, name))
          if (await target.table(path).catch(noneThere)) paths.add(path)
    }
  return paths
}

function noneThere(error: unknown): null {
  if (isLoss(error)) throw error
  return null
}

/** What a name in a raw statement means: one without a schema is looked for along the role's own path. */
async function pathsOf(target: Target, schema: string | undefined, name: string): Promise<string[]> {
  if (schema !== undefined) return [toTablePath(schema, name)]
  const { rows } = await target.read(
    `select n.nspname, c.relname from pg_catalog.pg_class c join pg_catalog.pg_namespace n on n.oid = c.relnamespace
      where c.oid = pg_catalog.to_regclass(pg_catalog.quote_ident($1))`,
    [name],
  )
  return rows.map(([own, relname]) => toTablePath(own ?? '', relname ?? ''))
}

/** The relations that a parsed statement names, wherever they stand in it. */
function relationsIn(node: unknown): { schema: string | undefined; name: string }[] {
  if (node === null || typeof node !== 'object') return []
  const { schemaname, relname } = node as { schemaname?: string; relname?: string }
  const own = typeof relname === 'string' ? [{ schema: schemaname, name: relname }] : []
  return [...own, ...Object.values(node).flatMap(relationsIn)]
}

/** The tables that a view reads. */
async function baseTables(target: Target, view: Table): Promise<string[]> {
  const { rows } = await target.read(
    `select distinct n.nspname, c.relname from pg_rewrite r
      join pg_depend d on d.classid = 'pg_rewrite'::regclass and d.objid = r.oid and d.refclassid = 'pg_class'::regclass
      join pg_class c on c.oid = d.refobjid join pg_namespace n on n.oid = c.relnamespace
      where r.ev_class = $1::regclass and c.oid <> r.ev_class and c.relkind in ('r', 'p', 'v')`,
    [view.sql],
  )
  return rows.map(([schema, name]) => toTablePath(schema ?? '', name ?? ''))
}
