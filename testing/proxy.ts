import { connect, createServer, type AddressInfo, type Socket } from 'node:net'

/** What a proxy does with what it sees; texts are looked for in the bytes as they pass. */
export interface ProxyRules {
  /**
   * Called with what a client sends, and which one it is. `cut` ends the connection before it arrives, `cutAnswer` when the server has answered it; `refuse` answers
   * with a protocol violation, as proxies do that do not know a start-up parameter.
   */
  onRequest?: (text: string, client: Socket) => 'pass' | 'cut' | 'cutAnswer' | 'refuse'
  /** Called with what the server answers; resolves when it may pass. */
  onAnswer?: (bytes: Buffer) => Promise<void> | undefined
}

/** A stretch of network between a client and the test's server that can be cut, or made slow. */
export interface Proxy {
  /** The same database by way of the proxy. */
  urlOf(url: string): string
  rules: ProxyRules
  close(): Promise<void>
}

/** ErrorResponse (PostgreSQL, "Frontend/Backend Protocol"): what it is, its length, and its fields. */
const REFUSAL = ((fields: string) => {
  const length = Buffer.alloc(4)
  length.writeUInt32BE(4 + Buffer.byteLength(fields))
  return Buffer.concat([Buffer.from('E'), length, Buffer.from(fields)])
})('SFATAL\0C08P01\0Munsupported startup parameter\0\0')

export async function openProxy(serverUrl: string): Promise<Proxy> {
  const { hostname, port } = new URL(serverUrl)
  const sockets = new Set<Socket>()
  const proxy = { rules: {} as ProxyRules }
  const server = createServer((client) => {
    const upstream = connect(Number(port), hostname)
    let isCutWithAnswer = false
    const end = () => {
      client.destroy()
      upstream.destroy()
    }
    let answers = Promise.resolve()
    for (const socket of [client, upstream]) {
      sockets.add(socket)
      socket.on('error', end).on('close', () => {
        sockets.delete(socket)
        end()
      })
    }
    client.on('data', (bytes) => {
      const verdict = proxy.rules.onRequest?.(bytes.toString('latin1'), client) ?? 'pass'
      if (verdict === 'cut') return end()
      if (verdict === 'refuse') return void client.end(REFUSAL)
      isCutWithAnswer ||= verdict === 'cutAnswer'
      upstream.write(bytes)
    })
    upstream.on('data', (bytes) => {
      if (isCutWithAnswer) return end()
      answers = answers.then(() => proxy.rules.onAnswer?.(bytes)).then(() => void client.write(bytes))
    })
  })
  await new Promise<void>((resolve) => server.listen(0, '127.0.0.1', resolve))
  const own = (server.address() as AddressInfo).port
  return {
    get rules() {
      return proxy.rules
    },
    set rules(rules) {
      proxy.rules = rules
    },
    urlOf(url) {
      const through = new URL(url)
      Object.assign(through, { hostname: '127.0.0.1', port: String(own) })
      return through.toString()
    },
    close: () =>
      new Promise((resolve) => {
        for (const socket of sockets) socket.destroy()
        server.close(() => resolve())
      }),
  }
}
