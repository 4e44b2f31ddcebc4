import {
  isProblem,
  transactionDefinition,
  transactionInfo,
  transactionList,
  type TransactionInfo,
  type TransactionSummary,
} from '@ledgerman/contract'
import type { Target } from '@ledgerman/core'
import { expectedRevision, publishOne, revisionOf } from '../definitions/publish-one.js'
import type { TransactionRevision } from '../home/definition-store.js'
import { AS_IT_STANDS, defineRoute } from '../http/route.js'
import type { Services } from './services.js'

const TRANSACTIONS = '/v1/targets/{target}/transactions'
const REVISION = 'The revision in quotes, such as "3".'

export function transactionRoutes(services: Services) {
  const { targets } = services
  const { transactions } = targets
  const targetOf = (params: Record<string, string>) => targets.get(params['target'] ?? '')

  async function describe(target: Target, found: TransactionRevision): Promise<TransactionInfo> {
    const described = { ...toSummary(found), definition: found.definition, source: found.source }
    try {
      await targets.plan(target, found.name, found.revision)
      return { ...described, drift: null }
    } catch (error) {
      if (!isProblem(error, 'definition-invalid') && !isProblem(error, 'not-found')) throw error
      return { ...described, drift: error.detail }
    }
  }

  return [
    defineRoute({
      method: 'get',
      path: TRANSACTIONS,
      role: 'reader',
      summary: 'List transactions at their latest revision.',
      replies: { 200: { description: 'In order of name.', schema: transactionList } },
      handle: async ({ params }) => ({
        status: 200,
        body: { transactions: (await transactions.list(targetOf(params).name)).map(toSummary) },
      }),
    }),
    defineRoute({
      method: 'get',
      path: `${TRANSACTIONS}/{transaction}`,
      role: 'reader',
      summary: 'One transaction.',
      replies: { 200: { description: 'The latest revision.', schema: transactionInfo, headers: { etag: REVISION } } },
      handle: async ({ params }) => {
        const target = targetOf(params)
        const found = await transactions.get(target.name, params['transaction'] ?? '')
        return { status: 200, body: await describe(target, found), headers: { etag: `"${found.revision}"` } }
      },
    }),
    defineRoute({
      method: 'get',
      path: `${TRANSACTIONS}/{transaction}/revisions/{revision}`,
      role: 'reader',
      summary: 'An earlier revision of a transaction.',
      replies: { 200: { description: 'As it was published.', schema: transactionInfo } },
      handle: async ({ params }) => {
        const target = targetOf(params)
        const number = revisionOf({ params })
        return {
          status: 200,
          body: await describe(
            target,
            await transactions.getRevision(target.name, params['transaction'] ?? '', number),
          ),
        }
      },
    }),
    defineRoute({
      method: 'put',
      path: `${TRANSACTIONS}/{transaction}`,
      role: 'author',
      summary:
        'Publish a transaction. Every statement is prepared on the target; the same content gives no new revision.',
      headers: { 'If-Match': REVISION, 'If-None-Match': '* to publish only where there is none yet.' },
      body: {
        'application/yaml': { schema: transactionDefinition, parse: AS_IT_STANDS },
        'application/json': { schema: transactionDefinition, parse: AS_IT_STANDS },
      },
      replies: {
        200: {
          description: 'The latest revision, new or the same as before.',
          schema: transactionInfo,
          headers: { etag: REVISION },
        },
        201: { description: 'The first revision.', schema: transactionInfo, headers: { etag: REVISION } },
      },
      problems: ['definition-invalid', 'record-changed', 'media-type'],
      handle: async (call) => {
        const target = targetOf(call.params)
        const { revision, isNew } = await publishOne(services, target, 'transaction', call)
        return {
          status: isNew && revision.revision === 1 ? 201 : 200,
          body: await describe(target, revision),
          headers: { etag: `"${revision.revision}"` },
        }
      },
    }),
    defineRoute({
      method: 'delete',
      path: `${TRANSACTIONS}/{transaction}`,
      role: 'author',
      summary: 'Remove a transaction. Its revisions stay readable, and so do entries made with it.',
      headers: { 'If-Match': REVISION },
      replies: { 204: { description: 'Removed.' } },
      problems: ['record-changed'],
      handle: async (call) => {
        const expected = expectedRevision(call)
        const known = expected === 'none' ? undefined : expected
        await transactions.remove(
          targetOf(call.params).name,
          call.params['transaction'] ?? '',
          call.caller.actor,
          known,
        )
        return { status: 204 }
      },
    }),
  ]
}

function toSummary({ name, definition, revision, publishedAt, publishedBy }: TransactionRevision): TransactionSummary {
  return {
    name,
    summary: definition.summary ?? null,
    params: Object.keys(definition.params ?? {}),
    revision,
    publishedAt,
    publishedBy,
  }
}
