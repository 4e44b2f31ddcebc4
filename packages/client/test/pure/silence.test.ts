import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { LedgermanClient } from '@ledgerman/client'

// A service that takes a call, says that it is at it, and then nothing more.
let server: Server
let client: LedgermanClient

beforeAll(async () => {
  server = createServer((request, response) => {
    request.resume()
    response.writeHead(200, { 'content-type': 'text/event-stream' })
    const beat = setInterval(() => response.write(': still running\n\n'), 20)
    setTimeout(() => clearInterval(beat), 900)
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const { port } = server.address() as AddressInfo
  client = new LedgermanClient({ url: `http://127.0.0.1:${port}`, token: 'x', timeLimitMs: 600 })
})
afterAll(() => {
  server.closeAllConnections()
  server.close()
})

it('is given up when nothing is heard of it any more, and not while it says that it is at work', async () => {
  const since = performance.now()
  const drill = client.target('observatory').drill({ kind: 'fault', run: { steps: [], params: {} } })
  await expect(drill).rejects.toMatchObject({
    code: 'target-unavailable',
    detail: expect.stringMatching(/nothing was heard for 0\.6 s/) as string,
  })
  expect(performance.now() - since).toBeGreaterThan(900)
})

it('is told as unknown where the call may have changed something', async () => {
  const run = client
    .target('observatory')
    .run({ transaction: 'move', mode: 'commit', params: {} }, { onWait: () => undefined })
  await expect(run).rejects.toMatchObject({ code: 'outcome-unknown' })
})
