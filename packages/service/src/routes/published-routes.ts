import { isProblem, type DefinitionKind } from '@ledgerman/contract'
import { asItIs, type Target } from '@ledgerman/core'
import type { z } from 'zod'
import { publishChecked } from '../definitions/publish-checked.js'
import { expectedRevision, publishOne, revisionOf } from '../definitions/publish-one.js'
import { assertUnused } from '../definitions/withdraw.js'
import type { DefinitionStore, Revision } from '../home/definition-store.js'
import { AS_IT_STANDS, defineRoute } from '../http/route.js'
import { wantsYaml, YAML, yamlAnswer } from '../http/yaml-answer.js'
import type { Services } from './services.js'

const REVISION = 'The revision in quotes, such as "3".'

/** What mappings and transactions, as published definitions, do not have in common. */
export interface Published<Kind extends DefinitionKind> {
  kind: Kind
  store: DefinitionStore<Kind>
  definition: z.ZodType
  info: z.ZodType
  list: z.ZodType
  summaries: { one: string; publish: string }
  toSummary(revision: Revision<Kind>): object
  /** What is known of it against the live target. @throws LedgermanProblem definition-invalid or not-found where it does not fit any more */
  resolve(target: Target, revision: Revision<Kind>): Promise<object>
  /** What stands in place of that where it does not fit. */
  unresolved: object
}

/** The routes under which definitions of a kind are listed, read, published and removed. */
export function publishedRoutes<Kind extends DefinitionKind>(services: Services, published: Published<Kind>) {
  const { home, targets } = services
  const { kind, store, definition, info, list, summaries, toSummary, resolve, unresolved } = published
  const all = `/v1/targets/{target}/${kind}s`
  const one = `${all}/{${kind}}`
  const targetOf = (params: Record<string, string>) => targets.get(params['target'] ?? '')

  async function describe(target: Target, found: Revision<Kind>): Promise<object> {
    const described = { ...toSummary(found), definition: found.definition, source: found.source }
    try {
      return { ...described, ...(await asItIs(target, () => resolve(target, found))), drift: null }
    } catch (error) {
      if (!isProblem(error, 'definition-invalid', 'not-found')) throw error
      return { ...described, ...unresolved, drift: error.detail }
    }
  }

  return [
    defineRoute({
      method: 'get',
      path: all,
      role: 'reader',
      looksAtLimits: true,
      summary: `List ${kind}s at their latest revision.`,
      replies: { 200: { description: 'In order of name.', schema: list } },
      handle: async ({ params, caller }) => {
        const published = await store.list(targetOf(params).name)
        const open = published.filter(({ name }) => caller.only?.includes(name) ?? true)
        return { status: 200, body: { [`${kind}s`]: open.map(toSummary) } }
      },
    }),
    defineRoute({
      method: 'get',
      path: one,
      role: 'reader',
      summary: summaries.one,
      replies: {
        200: {
          description: 'The latest revision; as YAML the text that was published.',
          schema: info,
          headers: { etag: REVISION },
          alsoAs: [YAML],
        },
      },
      handle: async ({ params, request }) => {
        const target = targetOf(params)
        const found = await store.get(target.name, params[kind] ?? '')
        if (wantsYaml(request)) return yamlAnswer(found.source, found.revision)
        const headers = { vary: 'accept', etag: `"${found.revision}"` }
        return { status: 200, body: await describe(target, found), headers }
      },
    }),
    defineRoute({
      method: 'get',
      path: `${one}/revisions/{revision}`,
      role: 'reader',
      summary: `An earlier revision of a ${kind}.`,
      replies: { 200: { description: 'As it was published.', schema: info, alsoAs: [YAML] } },
      handle: async ({ params, request }) => {
        const target = targetOf(params)
        const found = await store.getRevision(target.name, params[kind] ?? '', revisionOf({ params }))
        if (wantsYaml(request)) return yamlAnswer(found.source)
        return { status: 200, body: await describe(target, found), headers: { vary: 'accept' } }
      },
    }),
    defineRoute({
      method: 'put',
      path: one,
      role: 'author',
      summary: summaries.publish,
      headers: { 'If-Match': REVISION, 'If-None-Match': '* to publish only where there is none yet.' },
      body: {
        [YAML]: { schema: definition, parse: AS_IT_STANDS },
        'application/json': { schema: definition, parse: AS_IT_STANDS },
      },
      replies: {
        200: {
          description: 'The latest revision, new or the same as before.',
          schema: info,
          headers: { etag: REVISION },
        },
        201: { description: 'The first revision.', schema: info, headers: { etag: REVISION } },
      },
      problems: ['definition-invalid', 'record-changed', 'media-type', 'outcome-unknown'],
      handle: async (call) => {
        const target = targetOf(call.params)
        const { revision, isNew } = await publishOne(services, target, kind, call)
        return {
          status: isNew && revision.revision === 1 ? 201 : 200,
          body: await describe(target, revision as Revision<Kind>),
          headers: { etag: `"${revision.revision}"` },
        }
      },
    }),
    defineRoute({
      method: 'delete',
      path: one,
      role: 'author',
      summary: `Withdraw a ${kind}. Its revisions stay readable, and so do entries made with it.`,
      headers: { 'If-Match': REVISION },
      replies: { 204: { description: 'Withdrawn.' } },
      problems: ['record-changed', 'definition-in-use', 'outcome-unknown'],
      handle: async (call) => {
        const expected = expectedRevision(call)
        const target = targetOf(call.params).name
        const name = call.params[kind] ?? ''
        await publishChecked(home, target, call.caller.actor, async () => {
          await store.get(target, name)
          await assertUnused(targets, target, [{ kind, name }])
          return [{ kind, name, definition: null, expected }]
        })
        store.forget(target, name)
        return { status: 204 }
      },
    }),
  ]
}
