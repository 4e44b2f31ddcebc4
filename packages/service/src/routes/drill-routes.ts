import {
  drillInput,
  drillInputShape,
  drillReport,
  walk,
  walkInput,
  walkInputShape,
  type DrillInput,
  type DrillReport,
  type ProblemCode,
} from '@ledgerman/contract'
import {
  drillFaults,
  drillInterleavings,
  drillRace,
  WalkThrough,
  type DrillOptions,
  type Target,
} from '@ledgerman/core'
import type { z } from 'zod'
import { defineRoute, type Call, type Reply } from '../http/route.js'
import { proofTools } from '../code/load-code.js'
import { drillDefinitions, drillSource } from '../drills/drill-source.js'
import type { Services } from './services.js'

const DRILLS = '/v1/targets/{target}/drills'
const WALKS = '/v1/targets/{target}/walks'
const PROBLEMS: ProblemCode[] = [
  'scratch-unavailable',
  'definition-invalid',
  'expression-invalid',
  'value-invalid',
  'cancelled',
  'media-type',
  'too-large',
]
/** How long a drill may take, in milliseconds. */
const LONGEST_DRILL_MS = 15 * 60_000
/** How long a step of a walk may take, or its beginning, in milliseconds. */
const LONGEST_STEP_MS = 2 * 60_000
/** How often a caller who follows a drill is told how far it is, in milliseconds. */
const TELL_EVERY_MS = 250

export function drillRoutes(services: Services) {
  const { metrics, targets, openWalks } = services
  const targetOf = ({ params }: Pick<Call, 'params'>) => targets.get(params['target'] ?? '')

  async function drill(target: Target, input: DrillInput, actor: string, options: DrillOptions): Promise<DrillReport> {
    const [source, definitions] = [await drillSource(services, target), drillDefinitions(services, target, actor)]
    switch (input.kind) {
      case 'fault':
        return drillFaults(source, input, definitions, options)
      case 'interleaving':
        return drillInterleavings(source, input, definitions, options)
      case 'race':
        return drillRace(source, input, definitions, options)
    }
  }

  return [
    defineRoute<z.ZodType, DrillInput>({
      method: 'post',
      path: DRILLS,
      role: 'author',
      summary: 'Drill runs in a scratch database: under faults, in every interleaving, or many at once.',
      canFollow: true,
      longestMs: LONGEST_DRILL_MS,
      body: { 'application/json': { schema: drillInput, shape: drillInputShape } },
      replies: { 200: { description: 'What was tried and what came of it.', schema: drillReport } },
      problems: PROBLEMS,
      handle: async (call) => {
        let toldAt = -Infinity
        const onProgress = (done: number, total: number, what: string) => {
          if (!call.onProgress || performance.now() - toldAt < TELL_EVERY_MS) return
          toldAt = performance.now()
          call.onProgress({ done, total, what })
        }
        return {
          status: 200,
          body: await metrics.drilled(
            drill(targetOf(call), call.body, call.caller.actor, { signal: call.gone(), onProgress, tools: proofTools }),
          ),
        }
      },
    }),
    defineRoute<z.ZodType, z.output<typeof walkInput>>({
      method: 'post',
      path: WALKS,
      role: 'author',
      summary:
        'Begin to go through a run step by step in a scratch database. It is given up when nobody goes on for ten minutes.',
      body: { 'application/json': { schema: walkInput, shape: walkInputShape } },
      longestMs: LONGEST_STEP_MS,
      replies: { 201: { description: 'Before its first step.', schema: walk } },
      problems: [...PROBLEMS, 'too-many-requests'],
      handle: async (call) => {
        const target = targetOf(call)
        const [id, begun] = await openWalks.begin(target.name, call.caller.actor, async () =>
          WalkThrough.begin(
            await drillSource(services, target),
            call.body.run,
            drillDefinitions(services, target, call.caller.actor),
          ),
        )
        // Whoever has gone meanwhile has not learned its id: nobody could go on with it.
        if (call.gone().aborted) await openWalks.stop(target.name, call.caller.actor, id)
        return shown(id, begun, 201)
      },
    }),
    defineRoute({
      method: 'post',
      path: `${WALKS}/{walk}/next`,
      role: 'author',
      summary: 'Run the next step, or after the last one the commit.',
      longestMs: LONGEST_STEP_MS,
      replies: { 200: { description: 'After it.', schema: walk } },
      problems: ['not-found', 'scratch-unavailable'],
      handle: async (call) => {
        const [id, begun] = walkOf(call)
        await begun.next()
        return shown(id, begun, 200)
      },
    }),
    defineRoute({
      method: 'delete',
      path: `${WALKS}/{walk}`,
      role: 'author',
      summary: 'Stop, and drop the scratch database.',
      replies: { 204: { description: 'Dropped.' } },
      problems: ['not-found'],
      handle: async (call) => {
        await openWalks.stop(targetOf(call).name, call.caller.actor, call.params['walk'] ?? '')
        return { status: 204 }
      },
    }),
  ]

  function walkOf(call: Call): [string, WalkThrough] {
    const id = call.params['walk'] ?? ''
    return [id, openWalks.get(targetOf(call).name, call.caller.actor, id)]
  }

  async function shown(id: string, begun: WalkThrough, status: number): Promise<Reply> {
    return { status, body: { id, ...(await begun.look()) } }
  }
}
