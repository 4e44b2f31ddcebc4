import { parseSync } from 'libpg-query'
import { LedgermanProblem } from '@ledgerman/contract'
import { toTablePath } from '../../catalogue/table-path.js'
import type { ForeignKey, Table } from '../../catalogue/table.js'
import type { FindMappingByName } from '../../mapping/links.js'
import type { Mapping } from '../../mapping/mapping.js'
import { loadGrammar } from '../../plan/load-grammar.js'
import { isWrite } from '../../plan/plan.js'
import type { Target } from '../../target/target.js'
import { toTextArray } from '../../values/text-array.js'
import { columnSql, keyColumns } from './snapshot.js'
import type { Drilled, ObservedRow } from './observe-run.js'

/** How many rows a scratch database may have, and how many of a table that is not asked by key. */
const MOST_ROWS = 50_000
const MOST_OF_A_TABLE = 1_000
const BYSTANDERS = 3

type Reference = Pick<ForeignKey, 'table' | 'columns' | 'otherColumns'>

/** The rows of one table that are copied, each as PostgreSQL's JSON, by its key where it has one. */
export interface CopiedTable {
  table: Table
  rows: Map<string, string>
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
  const collector = new Collector(target)
  const links = await linksNamed(drilled, findMapping)
  for (const { mapping, before, after } of observed)
    for (const texts of [before, after]) if (texts) await collector.askFor(mapping, texts, links.get(mapping) ?? [])
  await collector.fetchAll()
  for (const path of tablesChangedByCondition(drilled)) await collector.takeBystanders(path)
  for (const path of await relationsOfStatements(target, drilled)) await collector.takeFirst(path)
  await collector.fetchAll()
  return { copied: [...collector.copied.values()], notes: collector.notes }
}

class Collector {
  readonly copied = new Map<string, CopiedTable>()
  readonly notes: string[] = []
  /** What is still to be read: by table and columns, the values to find. */
  #asked = new Map<string, { path: string; columns: readonly string[]; values: Map<string, (string | null)[]> }>()
  readonly #known = new Set<string>()
  #count = 0

  constructor(readonly target: Target) {}

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
        const list = columns.map((_, at) => `$${at + 1}::text[]`).join(', ')
        const names = columns.map((_, at) => `a${at}`).join(', ')
        const matches = columns.map((name, at) => {
          const type = table.columns.find((column) => column.name === name)?.type.comparable ?? 'text'
          return `t.${columnSql(table, name)} = a${at}::${type}`
        })
        await this.#take(
          table,
          `from unnest(${list}) as asked (${names}) join ${table.sql} as t on ${matches.join(' and ')}`,
          lists,
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
    const taken = await this.#take(table, `from ${table.sql} as t limit ${MOST_OF_A_TABLE}`, [])
    if (taken === MOST_OF_A_TABLE)
      this.notes.push(`Of ${path}, which is not asked by key, the first ${MOST_OF_A_TABLE} rows are copied.`)
  }

  /** A few rows that the runs do not reach: a condition has to leave some out, as it does in the target. */
  async takeBystanders(path: string): Promise<void> {
    const table = await this.target.table(path)
    const count = (this.copied.get(path)?.rows.size ?? 0) + BYSTANDERS
    await this.#take(table, `from ${table.sql} as t limit ${count}`, [])
  }

  async #take(table: Table, from: string, lists: (string | null)[][]): Promise<number> {
    const key = keyColumns(table)
    const references = table.references.flatMap(({ columns }) => columns)
    const texts = [...key, ...references].map((name) => `t.${columnSql(table, name)}::text`)
    const { rows } = await this.target.read(
      `select ${['row_to_json(t)::text', ...texts].join(', ')} ${from}`,
      lists.map(toTextArray),
    )
    let copied = this.copied.get(table.path)
    if (!copied) this.copied.set(table.path, (copied = { table, rows: new Map() }))
    for (const [json, ...values] of rows) {
      const id = key.length > 0 ? values.slice(0, key.length).join('\0') : `${copied.rows.size}`
      if (copied.rows.has(id)) continue
      copied.rows.set(id, json ?? '')
      const referred = new Map(references.map((name, at) => [name, values[key.length + at] ?? null]))
      for (const reference of table.references) this.#askReferred(reference, (column) => referred.get(column))
      if (++this.#count > MOST_ROWS)
        throw new LedgermanProblem(
          'scratch-unavailable',
          `The drilled runs reach more than ${MOST_ROWS} rows. Drill them with parameters that reach fewer.`,
        )
    }
    return rows.length
  }
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
      for (const path of relationsIn(parseSync(step.statement.text)))
        if (await target.table(path).catch(() => null)) paths.add(path)
    }
  return paths
}

/** The relations that a parsed statement names, wherever they stand in it. */
function relationsIn(node: unknown): string[] {
  if (node === null || typeof node !== 'object') return []
  const { schemaname, relname } = node as { schemaname?: string; relname?: string }
  const own = typeof relname === 'string' ? [toTablePath(schemaname ?? 'public', relname)] : []
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
