import { createServer } from 'node:http'
import type { AddressInfo } from 'node:net'
import express from 'express'
import { messagesOf } from '../../src/http/known-shapes.js'

it('makes requests and responses that Express leaves as they are, and its own members work on', async () => {
  const app = express()
  app.get(
    '/what',
    (request, response) => void response.status(201).json({ asked: request.path, by: request.get('x-by') }),
  )
  const kept: boolean[] = []
  const server = createServer(messagesOf(app), (request, response) => {
    const before = [request, response].map((each) => Object.getPrototypeOf(each) as unknown)
    app(request as express.Request, response as express.Response)
    kept.push(...[request, response].map((each, at) => Object.getPrototypeOf(each) === before[at]))
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  try {
    const answer = await fetch(`http://127.0.0.1:${(server.address() as AddressInfo).port}/what`, {
      headers: { 'x-by': 'me' },
    })
    expect([answer.status, await answer.json()]).toEqual([201, { asked: '/what', by: 'me' }])
    expect(kept).toEqual([true, true])
  } finally {
    server.close()
    server.closeAllConnections()
  }
})
