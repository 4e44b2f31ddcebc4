import {
  derivedMapping,
  parseTablePath,
  tableInfo,
  tableList,
  toTablePath,
  type TableInfo,
  type TableSummary,
} from '@ledgerman/contract'
import { deriveMapping, derivedPropertyName, mappingNames, whyUnchangeable, type Table } from '@ledgerman/core'
import { wantsYaml, YAML, yamlAnswer } from '../http/yaml-answer.js'
import { toYaml } from '../definitions/mapping-yaml.js'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

export function tableRoutes({ targets }: Services) {
  const tableOf = (params: Record<string, string>) =>
    targets.get(params['target'] ?? '').tableNow(toTablePath(params['schema'] ?? '', params['table'] ?? ''))
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
      replies: { 200: { description: 'Not published yet.', schema: derivedMapping, alsoAs: [YAML] } },
      handle: async ({ params, request }) => {
        const target = targets.get(params['target'] ?? '')
        const table = await tableOf(params)
        const published = (await targets.mappings.list(target.name)).map(({ name, definition }) => ({
          name,
          path: pathOf(definition.table),
          definition,
        }))
        const names = mappingNames(
          [...new Set([...(await target.tablePaths()), table.path])],
          new Map(published.map(({ name, path }) => [name, path])),
        )
        const propertyOf = (path: string, column: string) => {
          const known = published.find((each) => each.path === path)
          if (!known) return undefined
          return Object.entries(known.definition.properties).find(([, property]) => property.column === column)?.[0]
        }
        const derived = deriveMapping(
          table,
          (path) => names.get(path),
          (path, column) =>
            published.some((each) => each.path === path) ? propertyOf(path, column) : derivedPropertyName(column),
        )
        const source = toYaml(derived.definition)
        if (wantsYaml(request)) return yamlAnswer(source)
        return { status: 200, body: { ...derived, source }, headers: { vary: 'accept' } }
      },
    }),
  ]
}

/** A table's path as the catalogue writes it, however a definition does. */
function pathOf(table: string): string {
  const { schema, name } = parseTablePath(table)
  return toTablePath(schema, name)
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
    approximateBytes: table.approximateBytes,
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
    approximateBytes,
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
    triggers: triggers
      .filter(({ on }) => on.includes('update'))
      .map((trigger) => ({ name: trigger.name, when: trigger.when })),
    rowSecurity,
    approximateRows,
    approximateBytes,
  }
}
