import { mappingDefinition, mappingInfo, mappingList, type MappingSummary } from '@ledgerman/contract'
import { describeProperties } from '@ledgerman/core'
import type { MappingRevision } from '../home/definition-store.js'
import { publishedRoutes } from './published-routes.js'
import type { Services } from './services.js'

export function mappingRoutes(services: Services) {
  const { targets } = services
  return publishedRoutes(services, {
    kind: 'mapping',
    store: targets.mappings,
    definition: mappingDefinition,
    info: mappingInfo,
    list: mappingList,
    summaries: {
      one: 'One mapping, with what a form needs to know of its properties.',
      publish: 'Publish a mapping. It is checked against the live table; the same content gives no new revision.',
    },
    toSummary,
    resolve: async (target, revision) => ({ properties: describeProperties(await targets.resolve(target, revision)) }),
    unresolved: { properties: null },
  })
}

function toSummary({ name, definition, revision, publishedAt, publishedBy }: MappingRevision): MappingSummary {
  return {
    name,
    table: definition.table,
    key: definition.key,
    guard: definition.guard.by,
    revision,
    publishedAt,
    publishedBy,
  }
}
