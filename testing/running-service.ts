import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { pino } from 'pino'
import { LedgermanClient } from '@ledgerman/client'
import { findFreePort } from '@ledgerman/local'
import { startService } from '@ledgerman/service'
import { makeDatabase, makeObservatory, type TestDatabase } from './databases.js'
import { onceItAnswers } from './once-it-answers.js'
import { observatorySources, observatoryTransactions } from './observatory-mappings.js'

/** A service on loopback with a home and an observatory of its own. */
export interface RunningService {
  url: string
  token: string
  client: LedgermanClient
  observatory: TestDatabase
  home: TestDatabase
  /** Everything that was logged, a line each. */
  logLines: string[]
  /** A request as any program would send it. */
  request(
    method: string,
    path: string,
    options?: { body?: unknown; headers?: Record<string, string>; token?: string },
  ): Promise<Reply>
  stop(): Promise<void>
}

export interface Reply {
  status: number
  headers: Headers
  text: string
  // eslint-disable-next-line @typescript-eslint/no-explicit-any -- answers are looked into freely in tests
  body: any
}

/** Starts one; where `isPrepared`, with the demo's mappings published and its book prepared. */
export async function startTestService({
  isPrepared = true,
  extraTargets = {},
  // Tests that look at seals make them on demand, so that no other is in between.
  sealEveryMs = 3_600_000,
  homeBy = (url) => url,
  proxies = [],
}: {
  isPrepared?: boolean
  extraTargets?: Record<string, string>
  sealEveryMs?: number
  /** The address by which the service has its home database. */
  homeBy?: (url: string) => string
  proxies?: string[]
} = {}): Promise<RunningService> {
  const [home, observatory] = await Promise.all([makeDatabase(), makeObservatory()])
  const dataDir = mkdtempSync(join(tmpdir(), 'ledgerman-service-'))
  const port = await findFreePort()
  const logLines: string[] = []
  const common = { connections: 20, lockWaitMs: 1_000, timeLimitMs: 5_000, prepareStatements: true, demo: false }
  const targets = {
    observatory: { ...common, url: observatory.url, demo: true },
    ...Object.fromEntries(Object.entries(extraTargets).map(([name, url]) => [name, { ...common, url }])),
  }
  const service = await startService(
    {
      host: '127.0.0.1',
      port,
      proxies,
      dataDir,
      logLevel: 'info',
      stopLimitMs: 5_000,
      bodyLimitBytes: 1024 * 1024,
      sealEveryMs,
      home: { url: homeBy(home.ownerUrl), connections: 5 },
      jobs: { atOnce: 4, perTarget: 2, timeLimitMs: 30_000, fileLimitBytes: 8 * 1024 * 1024, keepHours: 24 },
      targets,
    },
    pino({ level: 'info' }, { write: (line: string) => void logLines.push(line) }),
  )
  const url = `http://127.0.0.1:${port}`
  const token = readFileSync(join(dataDir, 'admin-token'), 'utf8').trim()
  const client = new LedgermanClient({ url, token })
  if (isPrepared) {
    const mappings = [...observatorySources.values()].map((source) => ({ source }))
    await onceItAnswers(() => client.target('observatory').publish([...mappings, ...observatoryTransactions]))
    await onceItAnswers(() => client.target('observatory').prepareBook())
  }
  return {
    url,
    token,
    client,
    observatory,
    home,
    logLines,
    async request(method, path, { body, headers = {}, token: other = token } = {}) {
      const answer = await fetch(url + path, {
        method,
        headers: { ...(other === '' ? {} : { authorization: `Bearer ${other}` }), ...headers },
        ...(body === undefined
          ? {}
          : { body: typeof body === 'string' || body instanceof Uint8Array ? (body as string) : JSON.stringify(body) }),
      })
      const text = await answer.text()
      const isJson = /[/+]json/.test(answer.headers.get('content-type') ?? '')
      return {
        status: answer.status,
        headers: answer.headers,
        text,
        body: isJson && text !== '' ? (JSON.parse(text) as unknown) : undefined,
      }
    },
    async stop() {
      await service.stop()
      await Promise.all([home.drop(), observatory.drop()])
      rmSync(dataDir, { recursive: true, force: true })
    },
  }
}
