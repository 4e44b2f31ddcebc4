import { spawn } from 'node:child_process'
import { once } from 'node:events'
import { createServer, type Server } from 'node:http'
import type { AddressInfo } from 'node:net'
import { text } from 'node:stream/consumers'
import { PROGRAM } from '../cli-process.js'

// A service with an export that no pipe holds at once.
const ROWS = Array.from(
  { length: 20_000 },
  (_, at) => `${JSON.stringify({ id: String(at), filter: 'u'.repeat(100) })}\n`,
).join('')
let server: Server
let env: Record<string, string | undefined>

beforeAll(async () => {
  server = createServer((_request, response) => {
    response.setHeader('content-type', 'application/x-ndjson').end(ROWS)
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  env = {
    PATH: process.env['PATH'],
    LEDGERMAN_URL: `http://127.0.0.1:${(server.address() as AddressInfo).port}`,
    LEDGERMAN_TOKEN: 'none',
    LEDGERMAN_TARGET: 'observatory',
  }
})
afterAll(() => new Promise((resolve) => server.close(resolve)))

const EXPORT = [PROGRAM, 'find', 'exposure', '--all', '--ndjson']
// One of several processes that write to the same pipe, and have made it one that does not wait for its reader.
const SHARED = `require('node:child_process').spawn(process.execPath, ${JSON.stringify(EXPORT)}, { stdio: 'inherit' })
  .on('exit', (code) => { process.exitCode = code })
new (require('node:net').Socket)({ fd: 1 }).unref()`

it.each([
  ['of its own', EXPORT],
  ['that does not wait', ['-e', SHARED]],
])('writes all of it to a pipe %s, however late it is read', async (_, words) => {
  const command = spawn(process.execPath, words, { env })
  const ended = once(command, 'exit')
  await new Promise((resolve) => setTimeout(resolve, 1000))
  expect(await text(command.stdout)).toBe(ROWS)
  expect(await ended).toEqual([0, null])
})

it('ends quietly where its reader has seen enough', async () => {
  const command = spawn(process.execPath, EXPORT, { env })
  const errors = text(command.stderr)
  await once(command.stdout, 'data')
  command.stdout.destroy()
  expect(await once(command, 'exit')).toEqual([0, null])
  expect(await errors).toBe('')
})
