import {
  mappingDefinition,
  mappingInfo,
  mappingList,
  isProblem,
  type MappingInfo,
  type MappingSummary,
} from '@ledgerman/contract'
import { describeProperties, type Target } from '@ledgerman/core'
import { expectedRevision, publishOne, revisionOf } from '../definitions/publish-one.js'
import type { MappingRevision } from '../home/definition-store.js'
import { AS_IT_STANDS, defineRoute } from '../http/route.js'
import type { Services } from './services.js'

const REVISION = 'The revision in quotes, such as "3".'

export function mappingRoutes(services: Services) {
  const { targets } = services
  const { mappings } = targets
  const targetOf = (params: Record<string, string>) => targets.get(params['target'] ?? '')

  async function describe(target: Target, revision: MappingRevision): Promise<MappingInfo> {
    const described = { ...toSummary(revision), definition: revision.definition, source: revision.source }
    try {
      return { ...described, properties: describeProperties(await targets.resolve(target, revision)), drift: null }
    } catch (error) {
      if (!isProblem(error, 'definition-invalid') && !isProblem(error, 'not-found')) throw error
      return { ...described, properties: null, drift: error.detail }
    }
  }

  return [
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/mappings',
      role: 'reader',
      summary: 'List mappings at their latest revision.',
      replies: { 200: { description: 'In order of name.', schema: mappingList } },
      handle: async ({ params }) => ({
        status: 200,
        body: { mappings: (await mappings.list(targetOf(params).name)).map(toSummary) },
      }),
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/mappings/{mapping}',
      role: 'reader',
      summary: 'One mapping, with what a form needs to know of its properties.',
      replies: { 200: { description: 'The latest revision.', schema: mappingInfo, headers: { etag: REVISION } } },
      handle: async ({ params }) => {
        const target = targetOf(params)
        const revision = await mappings.get(target.name, params['mapping'] ?? '')
        return { status: 200, body: await describe(target, revision), headers: { etag: `"${revision.revision}"` } }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/mappings/{mapping}/revisions/{revision}',
      role: 'reader',
      summary: 'An earlier revision of a mapping.',
      replies: { 200: { description: 'As it was published.', schema: mappingInfo } },
      handle: async ({ params }) => {
        const target = targetOf(params)
        const number = revisionOf({ params })
        return {
          status: 200,
          body: await describe(target, await mappings.getRevision(target.name, params['mapping'] ?? '', number)),
        }
      },
    }),
    defineRoute({
      method: 'put',
      path: '/v1/targets/{target}/mappings/{mapping}',
      role: 'author',
      summary: 'Publish a mapping. It is checked against the live table; the same content gives no new revision.',
      headers: { 'If-Match': REVISION, 'If-None-Match': '* to publish only where there is none yet.' },
      body: {
        'application/yaml': { schema: mappingDefinition, parse: AS_IT_STANDS },
        'application/json': { schema: mappingDefinition, parse: AS_IT_STANDS },
      },
      replies: {
        200: {
          description: 'The latest revision, new or the same as before.',
          schema: mappingInfo,
          headers: { etag: REVISION },
        },
        201: { description: 'The first revision.', schema: mappingInfo, headers: { etag: REVISION } },
      },
      problems: ['definition-invalid', 'record-changed', 'media-type'],
      handle: async (call) => {
        const target = targetOf(call.params)
        const { revision, isNew } = await publishOne(services, target, 'mapping', call)
        return {
          status: isNew && revision.revision === 1 ? 201 : 200,
          body: await describe(target, revision),
          headers: { etag: `"${revision.revision}"` },
        }
      },
    }),
    defineRoute({
      method: 'delete',
      path: '/v1/targets/{target}/mappings/{mapping}',
      role: 'author',
      summary: 'Remove a mapping. Its revisions stay readable, and so do entries made with it.',
      headers: { 'If-Match': REVISION },
      replies: { 204: { description: 'Removed.' } },
      problems: ['record-changed'],
      handle: async (call) => {
        const expected = expectedRevision(call)
        await mappings.remove(
          targetOf(call.params).name,
          call.params['mapping'] ?? '',
          call.caller.actor,
          expected === 'none' ? undefined : expected,
        )
        return { status: 204 }
      },
    }),
  ]
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
