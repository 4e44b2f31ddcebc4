import {
  adoption,
  isProblem,
  LedgermanProblem,
  review as reviewSchema,
  reviewCatalogue,
  reviewInput,
  type ReviewInput,
} from '@ledgerman/contract'
import type { Mapping, Target } from '@ledgerman/core'
import { adoptFunctions, loadSqlGrammar, reviewFiles, toSarif } from '@ledgerman/review'
import { stringify } from 'yaml'
import type { z } from 'zod'
import { checkDefinitions } from '../definitions/check-definitions.js'
import { readDefinitions } from '../definitions/read-definition.js'
import { defineRoute, type Call } from '../http/route.js'
import { liveCatalogue } from '../review/live-catalogue.js'
import type { Services } from './services.js'

const SARIF = 'application/sarif+json'
const LONGEST_MS = 5 * 60_000

/** What is wrong with the data-access code one already has. */
export function reviewRoutes({ targets, reading }: Services) {
  return [
    defineRoute<z.ZodType, ReviewInput>({
      method: 'post',
      path: '/v1/targets/{target}/review',
      role: 'author',
      summary: 'Review the statements in SQL files and source code against the live catalogue. Nothing of them is run.',
      body: { 'application/json': { schema: reviewInput } },
      replies: {
        200: { description: 'Statements and findings; also as SARIF 2.1.0.', schema: reviewSchema, alsoAs: [SARIF] },
      },
      problems: ['media-type', 'too-large', 'cancelled'],
      longestMs: LONGEST_MS,
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const type = call.request.accepts(['application/json', SARIF])
        if (type === false)
          throw new LedgermanProblem('media-type', `A review is given as application/json or ${SARIF}.`, {
            where: 'accept',
          })
        const catalogue = await catalogueOf(target, call)
        const { files, placeholders } = call.body
        const review = await reviewFiles(files, {
          catalogue,
          placeholders,
          read: reading.read,
          signal: call.gone(),
        })
        if (type === SARIF)
          return { status: 200, stream: { contentType: SARIF, chunks: one(JSON.stringify(toSarif(review, '0.1.0'))) } }
        return { status: 200, body: review }
      },
    }),
    defineRoute<z.ZodType, ReviewInput>({
      method: 'post',
      path: '/v1/targets/{target}/review/adoption',
      role: 'author',
      summary: 'Make transactions of the functions in files that change records, and check each against the target.',
      body: { 'application/json': { schema: reviewInput } },
      replies: { 200: { description: 'A definition for each function; nothing is published.', schema: adoption } },
      problems: ['media-type', 'too-large', 'cancelled'],
      longestMs: LONGEST_MS,
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const catalogue = await catalogueOf(target, call)
        const { files, placeholders } = call.body
        const { statements } = await reviewFiles(files, {
          catalogue,
          placeholders,
          read: reading.read,
          signal: call.gone(),
        })
        await loadSqlGrammar()
        const adopted = []
        for (const { from, transaction, missing } of adoptFunctions(statements, await adopting(target))) {
          const source = stringify(transaction, { lineWidth: 120 })
          adopted.push({
            from,
            name: transaction.transaction,
            source,
            problem: missing ?? (await problemOf(target, source)),
          })
        }
        return { status: 200, body: { adopted } }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/review/catalogue',
      role: 'reader',
      summary: 'The tables as a review without a database needs them.',
      replies: { 200: { description: 'Tables with their columns, keys and guards.', schema: reviewCatalogue } },
      handle: async (call) => {
        const { tables, searchPath } = await catalogueOf(targets.get(call.params['target'] ?? ''), call)
        return { status: 200, body: { tables, searchPath } }
      },
    }),
  ]

  /** The published mappings that fit, as an adopted statement needs them. */
  async function adopting(target: Target) {
    return (await fittingMappings(target)).map(({ name, table, key, definition, properties }) => ({
      name,
      table: table.path,
      key: key.map((property) => property.name),
      guard: definition.guard,
      properties: properties.map((property) => ({ name: property.name, column: property.column.name })),
    }))
  }

  /** What of a definition does not fit the target; null where nothing does not. */
  async function problemOf(target: Target, source: string): Promise<string | null> {
    const { definitions: read, findings: unread } = readDefinitions(source, null)
    const findings = unread.length > 0 ? unread : await checkDefinitions(targets, target, read)
    return findings.length === 0 ? null : findings.map(({ where, message }) => `${where}: ${message}`).join(' ')
  }

  async function catalogueOf(target: Target, call: Pick<Call, 'gone'>) {
    return liveCatalogue(target, await fittingMappings(target), call.gone())
  }

  async function fittingMappings(target: Target): Promise<Mapping[]> {
    const published = await targets.mappings.list(target.name)
    const mappings = await Promise.all(
      published.map((revision) =>
        targets.resolve(target, revision).catch((error: unknown) => {
          // One that no longer fits says nothing of its table.
          if (isProblem(error)) return undefined
          throw error
        }),
      ),
    )
    return mappings.filter((mapping) => mapping !== undefined)
  }
}

async function* one(text: string): AsyncGenerator<string> {
  yield await Promise.resolve(text)
}
