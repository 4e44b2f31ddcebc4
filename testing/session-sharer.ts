import { createServer, type AddressInfo, type Socket } from 'node:net'
import pg from 'pg'

/** A proxy that gives all who connect one session of the server, a transaction each: what one sets, the next one finds. */
export interface SessionSharer {
  /** The same database by way of it. */
  url: string
  close(): Promise<void>
}

type OpenClient = pg.Client & { connection: { stream: Socket } }

// Messages of the protocol: a byte that says what, four of its length, its content (PostgreSQL, "Frontend/Backend Protocol").
const AUTHENTICATED = Buffer.from([0x52, 0, 0, 0, 8, 0, 0, 0, 0])
const READY = Buffer.from([0x5a, 0, 0, 0, 5, 0x49])

export async function shareOneSession(databaseUrl: string): Promise<SessionSharer> {
  const upstream = new pg.Client({ connectionString: databaseUrl }) as OpenClient
  await upstream.connect()
  upstream.on('error', () => undefined)
  const session = upstream.connection.stream
  session.removeAllListeners('data')
  const waiting: { client: Socket; bytes: Buffer }[] = []
  let holder: Socket | undefined
  const next = () => {
    if (holder || waiting.length === 0) return
    holder = waiting[0]?.client
    for (const { bytes } of waiting.filter(({ client }) => client === holder)) session.write(bytes)
    waiting.splice(0, waiting.length, ...waiting.filter(({ client }) => client !== holder))
  }
  let rest = Buffer.alloc(0)
  session.on('data', (bytes) => {
    holder?.write(bytes)
    rest = Buffer.concat([rest, bytes])
    let isIdle = false
    for (; rest.length >= 5 && rest.length > rest.readUInt32BE(1); rest = rest.subarray(1 + rest.readUInt32BE(1)))
      isIdle = rest[0] === READY[0] && rest[5] === READY[5]
    if (!isIdle || rest.length > 0) return
    holder = undefined
    next()
  })
  const sockets = new Set<Socket>()
  const server = createServer((client) => {
    sockets.add(client)
    client.on('error', () => undefined).on('close', () => sockets.delete(client))
    client.once('data', () => {
      client.write(Buffer.concat([AUTHENTICATED, READY]))
      client.on('data', (bytes) => {
        // A goodbye ends the client's connection, not the session.
        if (bytes[0] === 0x58) return client.end()
        if (holder === client) return session.write(bytes)
        waiting.push({ client, bytes })
        next()
      })
    })
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const url = new URL(databaseUrl)
  Object.assign(url, { hostname: '127.0.0.1', port: String((server.address() as AddressInfo).port) })
  return {
    url: url.toString(),
    async close() {
      for (const socket of sockets) socket.destroy()
      session.destroy()
      await new Promise<void>((resolve) => server.close(() => resolve()))
    },
  }
}
