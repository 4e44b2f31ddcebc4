import { z } from 'zod'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

const status = z.strictObject({ status: z.literal('ok') })

export function healthRoutes({ home }: Services) {
  return [
    defineRoute({
      method: 'get',
      path: '/healthz',
      role: null,
      summary: 'Whether the service runs.',
      replies: { 200: { description: 'It does.', schema: status } },
      handle: async () => ({ status: 200, body: { status: 'ok' } }),
    }),
    defineRoute({
      method: 'get',
      path: '/readyz',
      role: null,
      summary: 'Whether the service can work: its home database answers. A target that is down does not count.',
      replies: { 200: { description: 'It can.', schema: status } },
      problems: ['target-unavailable'],
      handle: async () => {
        await home.query('select 1')
        return { status: 200, body: { status: 'ok' } }
      },
    }),
  ]
}
