import { createServer, type AddressInfo, type Server, type Socket } from 'node:net'
import fc from 'fast-check'
import { findHandleLine } from '../../src/http/handle-line.js'
import { sendRequest } from '../../src/http/send-request.js'

// A service that answers with the bytes it was given, in the pieces it was given, and keeps what it was sent.
let server: Server
let port: number
let url: string
let pieces: Buffer[] = []
let ends = true
let received = ''
let line: Socket | undefined

beforeAll(async () => {
  server = createServer((socket) => {
    line = socket.setNoDelay()
    received = ''
    socket
      .on('error', () => undefined)
      .on('data', (bytes: Buffer) => {
        received += bytes.toString('latin1')
        if (!isWhole(received)) return
        void (async () => {
          for (const piece of pieces) {
            socket.write(piece)
            await new Promise(setImmediate)
          }
          if (ends) socket.end()
        })()
      })
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  port = (server.address() as AddressInfo).port
})
afterAll(() => new Promise((resolve) => server.close(resolve)))

function isWhole(request: string): boolean {
  const [head = '', ...body] = request.split('\r\n\r\n')
  return (
    request.includes('\r\n\r\n') &&
    body.join('\r\n\r\n').length >= Number(/content-length: (\d+)/i.exec(head)?.[1] ?? 0)
  )
}

function answerWith(text: string, cuts: readonly number[] = [], isEnded = true): void {
  const bytes = Buffer.from(text)
  const places = [0, ...cuts.map((cut) => cut % bytes.length).sort((a, b) => a - b), bytes.length]
  pieces = places.slice(1).map((to, at) => bytes.subarray(places[at], to))
  ends = isEnded
}

const chunked = (parts: readonly string[]) =>
  [...parts.filter(Boolean), ''].map((part) => `${Buffer.byteLength(part).toString(16)}\r\n${part}\r\n`).join('')
const FRAMES: ((parts: readonly string[]) => string)[] = [
  (parts) => `content-length: ${Buffer.byteLength(parts.join(''))}\r\n\r\n${parts.join('')}`,
  (parts) => `Transfer-Encoding: chunked\r\n\r\n${chunked(parts)}`,
  (parts) => `\r\n${parts.join('')}`,
]

// An address goes over the handle that Node's sockets stand on, a name over the sockets themselves.
describe.each(['127.0.0.1', 'localhost'])('to a service at %s', (host) => {
  beforeAll(() => {
    url = `http://${host}:${port}/v1/x?y=%20`
    expect(findHandleLine({ host, port }) === undefined).toBe(host === 'localhost')
  })

  it('reads what fetch reads, however the answer is framed and cut', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.constantFrom(200, 201, 404, 409, 503),
        fc.constantFrom(...FRAMES),
        fc.array(fc.string({ unit: 'grapheme', maxLength: 30 }), { maxLength: 4 }),
        fc.array(fc.nat(400), { maxLength: 6 }),
        async (status, frame, parts, cuts) => {
          answerWith(`HTTP/1.1 ${status} So\r\nEtag: "v1"\r\nconnection: close\r\n${frame(parts)}`, cuts)
          const [ours, fetched] = [await sendRequest(url, { method: 'GET', headers: {} }), await fetch(url)]
          expect([ours.status, ours.ok, ours.headers.get('etag')]).toEqual([fetched.status, fetched.ok, '"v1"'])
          expect(await ours.text()).toBe(await fetched.text())
        },
      ),
    )
  })

  it('sends all of a body, and waits for the answer behind one that only says that it is to come', async () => {
    answerWith(
      'HTTP/1.1 103 Early Hints\r\nlink: </x>\r\n\r\nHTTP/1.1 200 OK\r\ncontent-length: 2\r\n\r\nso',
      [],
      false,
    )
    const body = JSON.stringify({ title: 'Sternwarte Zürich ☉' })
    const answer = await sendRequest(url, { method: 'POST', headers: { 'content-type': 'application/json' }, body })
    expect(await answer.text()).toBe('so')
    expect(Buffer.from(received, 'latin1').toString()).toMatch(
      new RegExp(
        `^POST /v1/x\\?y=%20 HTTP/1.1\r\nhost: ${host}:\\d+\r\n[^]*content-length: ${Buffer.byteLength(body)}\r\n\r\n.*☉"}$`,
      ),
    )
  })

  it.each([
    ['without its last byte', 'HTTP/1.1 200 OK\r\ncontent-length: 3\r\n\r\nso'],
    ['without its last chunk', 'HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n2\r\nso\r\n'],
  ])('an answer %s is told as cut, as a text and as it comes', async (_, text) => {
    answerWith(text)
    await expect((await sendRequest(url, { method: 'GET', headers: {} })).text()).rejects.toThrow(
      'the connection was closed',
    )
    const { body } = await sendRequest(url, { method: 'GET', headers: {} })
    await expect(readAll(body)).rejects.toThrow('the connection was closed')
  })

  it.each([
    ['nothing at all', ''],
    ['no HTTP', 'SSH-2.0-OpenSSH\r\n\r\n'],
    ['a length below 0', 'HTTP/1.1 200 OK\r\ncontent-length: -39\r\n\r\n'],
  ])('%s is no answer', async (_, text) => {
    answerWith(text)
    await expect(sendRequest(url, { method: 'GET', headers: {} })).rejects.toThrow('the request failed')
  })

  it('breaks off an answer with a chunk whose size is below 0', async () => {
    answerWith('HTTP/1.1 200 OK\r\ntransfer-encoding: chunked\r\n\r\n1\r\ns\r\n-5\r\no\r\n')
    const answer = await sendRequest(url, { method: 'GET', headers: {} })
    await expect(answer.text()).rejects.toThrow('the answer gives a size that is none')
  })

  it('lets nobody send faster than it is read, and hangs up where the rest is not wanted', async () => {
    answerWith(`HTTP/1.1 200 OK\r\n\r\n${'x'.repeat(64 * 2 ** 20)}`, [], false)
    const { body } = await sendRequest(url, { method: 'GET', headers: {} })
    const closed = new Promise((resolve) => line?.once('close', resolve))
    let count = 0
    for await (const bytes of body ?? []) {
      if ((count += bytes.length) < 2 ** 20) continue
      await new Promise((resolve) => setTimeout(resolve, 300))
      expect(line?.writableLength).toBeGreaterThan(32 * 2 ** 20)
      break
    }
    await closed
  })

  it.each(['before the answer', 'within it'])('what is given up %s ends at once', async (when) => {
    answerWith(when === 'within it' ? 'HTTP/1.1 200 OK\r\ncontent-length: 9\r\n\r\nso' : '', [], false)
    const limit = new AbortController()
    const answer = sendRequest(url, { method: 'GET', headers: {}, signal: limit.signal })
    const text = answer.then((of) => of.text())
    const why = new Error('enough')
    setTimeout(() => limit.abort(why), 100)
    await expect(text).rejects.toMatchObject({ cause: why })
  })

  it('tells a service that is not there as Node does', async () => {
    const free = await freePort()
    const refused = sendRequest(`http://${host}:${free}/`, { method: 'GET', headers: {} })
    await expect(refused).rejects.toMatchObject({ cause: { code: 'ECONNREFUSED' } })
  })

  it.each(['in its head', 'within it'])('an answer that is broken off %s is told as that', async (where) => {
    answerWith(where === 'within it' ? 'HTTP/1.1 200 OK\r\ncontent-length: 9\r\n\r\nso' : 'HTTP/1.1 2', [], false)
    const before = line
    const text = sendRequest(url, { method: 'GET', headers: {} }).then((answer) => answer.text())
    // A busy machine takes its time to open the line.
    const looking = setInterval(() => {
      if (line === before || !isWhole(received)) return
      clearInterval(looking)
      setTimeout(() => line?.resetAndDestroy(), 100)
    }, 5)
    await expect(text).rejects.toMatchObject(
      where === 'within it' ? { code: 'ECONNRESET' } : { cause: { code: 'ECONNRESET' } },
    )
  })
})

async function freePort(): Promise<number> {
  const taken = createServer()
  await new Promise<void>((resolve) => taken.listen(0, '127.0.0.1', resolve))
  const { port } = taken.address() as AddressInfo
  await new Promise((resolve) => taken.close(resolve))
  return port
}

async function readAll(body: AsyncIterable<Uint8Array> | null): Promise<void> {
  for await (const bytes of body ?? []) void bytes
}
