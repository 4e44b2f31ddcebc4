import { transactionDefinition, transactionInfo, transactionList, type TransactionSummary } from '@ledgerman/contract'
import type { TransactionRevision } from '../home/definition-store.js'
import { publishedRoutes } from './published-routes.js'
import type { Services } from './services.js'

export function transactionRoutes(services: Services) {
  const { targets } = services
  return publishedRoutes(services, {
    kind: 'transaction',
    store: targets.transactions,
    definition: transactionDefinition,
    info: transactionInfo,
    list: transactionList,
    summaries: {
      one: 'One transaction.',
      publish:
        'Publish a transaction. Every statement is prepared on the target; the same content gives no new revision.',
    },
    toSummary,
    resolve: async (target, { name, revision }) => {
      await targets.plan(target, name, revision)
      return {}
    },
    unresolved: {},
  })
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
