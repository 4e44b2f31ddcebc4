import { isProblem, overview, type Overview } from '@ledgerman/contract'
import { bookOverview, listWaits, type Target } from '@ledgerman/core'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

type Attention = Overview['attention']

const NOTHING = {
  hours: [],
  refusals: [],
  busiest: { definitions: [], records: [] },
  looked: { entries: 0, since: null },
}
/** How long a failed job is news, in milliseconds. */
const NEWS_MS = 24 * 3_600_000

/** What somebody who opens a target wants to see first. */
export function overviewRoutes({ targets, jobs }: Services) {
  return [
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/overview',
      role: 'reader',
      summary: 'What needs attention, what was committed and refused in the last 24 hours, and what is busiest.',
      replies: { 200: { description: 'Of the newest entries.', schema: overview } },
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const { attention: ofTarget, isReachable, isPrepared } = await stateOf(target)
        const book = isPrepared ? await bookOverview(target, Date.now(), call.gone()) : NOTHING
        const parts = await Promise.all([
          isReachable ? misfits(target) : [],
          isReachable ? waiting(target) : [],
          failedJobs(target.name, call.caller.targets),
        ])
        const refused = book.refusals.map(({ code, count }) => ({
          kind: 'refusals' as const,
          about: code,
          message: `${count} refused in the last hour: ${code}`,
        }))
        const mappings = (await targets.mappings.list(target.name)).length
        return { status: 200, body: { attention: [...ofTarget, ...parts.flat(), ...refused], ...book, mappings } }
      },
    }),
  ]

  async function stateOf(target: Target) {
    const { reachable, book, problem, warnings = [] } = await targets.describe(target)
    const attention: Attention = [
      ...(reachable
        ? []
        : [{ kind: 'target' as const, about: target.name, message: problem ?? 'The database cannot be reached.' }]),
      ...(reachable && book !== 'prepared'
        ? [
            {
              kind: 'book' as const,
              about: null,
              message: 'The book is not prepared, so nothing can be committed: ledgerman book prepare',
            },
          ]
        : []),
      ...warnings.map((message) => ({ kind: 'target' as const, about: target.name, message })),
    ]
    return { attention, isReachable: reachable, isPrepared: reachable && book === 'prepared' }
  }

  /** Definitions that no longer fit the database. */
  async function misfits(target: Target): Promise<Attention> {
    const [mappings, transactions] = await Promise.all([
      targets.mappings.list(target.name),
      targets.transactions.list(target.name),
    ])
    const found = await Promise.all([
      ...mappings.map(({ name }) => misfit('mapping', name, () => targets.mapping(target, name))),
      ...transactions.map(({ name }) => misfit('transaction', name, () => targets.plan(target, name))),
    ])
    return found.flat()
  }

  async function misfit(
    kind: 'mapping' | 'transaction',
    name: string,
    resolve: () => Promise<unknown>,
  ): Promise<Attention> {
    try {
      await resolve()
      return []
    } catch (error) {
      if (!isProblem(error, 'definition-invalid', 'not-found')) throw error
      return [{ kind, about: name, message: error.detail }]
    }
  }

  async function waiting(target: Target): Promise<Attention> {
    const sessions = await listWaits(target).catch((error: unknown) => target.explain(error) as Error)
    if (!Array.isArray(sessions))
      return [{ kind: 'waits', about: null, message: `Who waits for whom could not be seen: ${sessions.message}` }]
    const blocked = sessions.filter(({ blockedBy }) => blockedBy.length > 0).length
    const roots = sessions.filter(({ isRoot }) => isRoot).length
    if (blocked === 0) return []
    const words = `${blocked} ${blocked === 1 ? 'session' : 'sessions'} blocked by ${roots}`
    return [{ kind: 'waits', about: null, message: words }]
  }

  async function failedJobs(target: string, allowed: string[] | null): Promise<Attention> {
    const { jobs: failed } = await jobs.list({ target, state: 'failed', limit: 5 }, allowed)
    return failed
      .filter(({ endedAt }) => endedAt !== null && Date.parse(endedAt) > Date.now() - NEWS_MS)
      .map(({ id, mapping, problem }) => ({
        kind: 'job' as const,
        about: id,
        message: `A job on ${mapping} failed: ${problem?.detail ?? 'see its report'}`,
      }))
  }
}
