import { derivedMapping, tableInfo, tableList, type TableInfo, type TableSummary } from '@ledgerman/contract'
import { deriveMapping, toTablePath, whyUnchangeable, type Table } from '@ledgerman/core'
import { toYaml } from '../definitions/mapping-yaml.js'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

export function tableRoutes({ targets }: Services) {
  const tableOf = (params: Record<string, string>) =>
    targets.get(params['target'] ?? '').table(toTablePath(params['schema'] ?? '', params['table'] ?? ''))
  return [
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/tables',
      role: 'reader',
      summary: 'The catalogue: tables, views and the like.',
      replies: { 200: { description: 'In order of schema and name.', schema: tableList } },
      handle: async ({ params }) => {
        const target = targets.get(params['target'] ?? '')
        const [tables, mappings] = await Promise.all([target.tables(), targets.mappings.list(target.name)])
        const mappingsOf = (path: string) =>
          mappings.filter(({ definition }) => definition.table === path).map(({ name }) => name)
        return { status: 200, body: { tables: tables.map((table) => toSummary(table, mappingsOf(table.path))) } }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/tables/{schema}/{table}',
      role: 'reader',
      summary: 'One table: columns, keys, checks, foreign keys both ways, triggers.',
      replies: { 200: { description: 'The table.', schema: tableInfo } },
      handle: async ({ params }) => ({ status: 200, body: toTableInfo(await tableOf(params)) }),
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/tables/{schema}/{table}/mapping',
      role: 'reader',
      summary: 'The mapping derived from a table, to be looked at and published.',
      replies: { 200: { description: 'Not published yet.', schema: derivedMapping } },
      handle: async ({ params }) => {
        const published = await targets.mappings.list(params['target'] ?? '')
        const table = await tableOf(params)
        const derived = deriveMapping(
          table,
          (path) => published.find(({ definition }) => definition.table === path)?.name,
        )
        return { status: 200, body: { ...derived, source: toYaml(derived.definition) } }
      },
    }),
  ]
}

function toSummary(table: Table, mappings: string[]): TableSummary {
  const { schema, name, kind, columns, keys, approximateRows, references } = table
  return {
    schema,
    name,
    kind,
    columns: columns.length,
    key: keys[0]?.columns ?? null,
    approximateRows,
    references: references.map((each) => ({ columns: each.columns, table: each.table })),
    mappings,
    cannotChange: whyUnchangeable(table),
  }
}

function toTableInfo(table: Table): TableInfo {
  const {
    schema,
    name,
    kind,
    columns,
    keys,
    checks,
    references,
    referencedBy,
    triggers,
    rowSecurity,
    approximateRows,
  } = table
  return {
    schema,
    name,
    kind,
    columns: columns.map((column) => ({
      name: column.name,
      type: column.type.sql,
      nullable: !column.notNull,
      default: column.default,
      identity: column.identity,
      generated: column.generated,
    })),
    keys,
    checks: checks.map((check) => ({ name: check.name, definition: check.definition })),
    references,
    referencedBy,
    triggers,
    rowSecurity,
    approximateRows,
  }
}
