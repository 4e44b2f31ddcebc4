import { z } from 'zod'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

export function metricRoutes({ metrics }: Services) {
  return [
    defineRoute({
      method: 'get',
      path: '/metrics',
      role: null,
      summary: 'What the service counts, as Prometheus text. No label holds a key or a value.',
      replies: { 200: { description: 'Counters, gauges and histograms.', schema: z.string(), alsoAs: ['text/plain'] } },
      handle: async () => {
        const chunks = [await metrics.print()]
        return { status: 200, stream: { contentType: metrics.contentType, chunks: once(chunks) } }
      },
    }),
  ]
}

async function* once(chunks: string[]): AsyncGenerator<string> {
  yield* chunks
}
