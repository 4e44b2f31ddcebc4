import { setMaxListeners } from 'node:events'
import { createServer, type Server } from 'node:http'
import type { Socket } from 'node:net'
import { fileURLToPath } from 'node:url'
import { setTimeout as delay } from 'node:timers/promises'
import { sweepScratch } from '@ledgerman/core'
import type { Logger } from 'pino'
import type { ServiceConfig } from './config/service-config.js'
import { ensureAdminToken } from './home/admin-token.js'
import { HomeDatabase } from './home/home-database.js'
import { DefinitionStore } from './home/definition-store.js'
import { RehearsalStore } from './home/rehearsal-store.js'
import { TokenStore } from './home/token-store.js'
import { createApp } from './http/app.js'
import { messagesOf } from './http/known-shapes.js'
import { answerUnread, HEADER_LIMIT_BYTES } from './http/unread-requests.js'
import { Metrics } from './metrics/metrics.js'
import { allRoutes } from './routes/all-routes.js'
import { JobRunner } from './jobs/job-runner.js'
import { JobStore } from './jobs/job-store.js'
import { ReadingThread } from '@ledgerman/review'
import { OpenWalks } from './drills/open-walks.js'
import { readSealKey } from './sealing/seal-key.js'
import { Sealer } from './sealing/sealer.js'
import { BegunRuns } from './runs/begun-runs.js'
import { TargetRegistry } from './targets/target-registry.js'

/** How long a caller may take to send a request's headers, and all of a large file, in milliseconds; other bodies have less. */
const HEADERS_LIMIT_MS = 20_000
const REQUEST_LIMIT_MS = 60 * 60_000

/**
 * How long a connection that nobody asks on is kept, in milliseconds. Longer than callers keep theirs, mostly: one that is closed just as a
 * request is sent leaves its caller without an answer.
 */
const KEEP_ALIVE_MS = 75_000

/** How often scratch databases that nobody is in any more are looked for, in milliseconds. */
const SWEEP_EVERY_MS = 5 * 60_000

const CONSOLE_DIR = fileURLToPath(new URL('../../console/dist/', import.meta.url))

export interface Service {
  server: Server
  /** Takes no more calls, lets those that run finish, then gives all sessions back. */
  stop(): Promise<void>
}

/** Sets the home database up and serves. */
export async function startService(config: Readonly<ServiceConfig>, log: Logger): Promise<Service> {
  const home = new HomeDatabase(config.home.url, config.home.connections, (what, why) => log.warn({ error: why }, what))
  await home.setUp()
  const tokens = new TokenStore(home)
  const metrics = new Metrics()
  const adminToken = await ensureAdminToken(tokens, config.dataDir)
  const targets = new TargetRegistry(
    config,
    await home.digestKey(),
    new DefinitionStore(home, 'mapping'),
    new DefinitionStore(home, 'transaction'),
    (target, error) => log.warn({ target, error: error.message }, 'target session broke'),
    (target) => metrics.activityOf(target),
  )
  const signer = readSealKey(config.sealKey, config.dataDir)
  const sealer = new Sealer(targets, signer, config.sealEveryMs, log)
  const openWalks = new OpenWalks()
  const reading = new ReadingThread()
  metrics.watch({ targets, home, openWalks })
  const rehearsals = new RehearsalStore(home)
  const jobs = new JobStore(home)
  const runner = new JobRunner(jobs, targets, rehearsals, config.jobs, log)
  metrics.watchJobs(jobs, runner)
  const stopping = new AbortController()
  // Each call that only tells listens to it.
  setMaxListeners(0, stopping.signal)
  const app = createApp({
    routes: allRoutes({
      home,
      tokens,
      targets,
      rehearsals,
      jobs,
      runner,
      signer,
      reading,
      jobLimits: config.jobs,
      begunRuns: new BegunRuns(),
      metrics,
      openWalks,
      homeUrl: config.home.url,
    }),
    tokens,
    lookAgain: (target, since) => targets.get(target).lookAgain(since),
    log,
    metrics,
    consoleDir: CONSOLE_DIR,
    bodyLimitBytes: config.bodyLimitBytes,
    proxies: config.proxies,
    stopping: stopping.signal,
  })
  const server = createServer({ maxHeaderSize: HEADER_LIMIT_BYTES, ...messagesOf(app) }, app)
  // Of a caller who sends a byte a second, or nothing at all.
  server.headersTimeout = HEADERS_LIMIT_MS
  server.requestTimeout = REQUEST_LIMIT_MS
  server.keepAliveTimeout = KEEP_ALIVE_MS
  answerUnread(server)
  const connections = connectionsOf(server)
  await listen(server, config)
  log.info({ host: config.host, port: config.port, targets: targets.names(), adminToken }, 'service ready')
  void warnAboutTargets(targets, log)
  runner.start()
  sealer.start()
  const sweep = () =>
    void sweepScratch(config.home.url).then(
      (dropped) => dropped.length > 0 && log.info({ dropped }, 'scratch databases of before were dropped'),
      (error: unknown) => log.warn({ error: String(error) }, 'scratch databases of before could not be looked for'),
    )
  sweep()
  // One that is young may still be built: a crash leaves some that only a later look takes for old.
  const sweeping = setInterval(sweep, SWEEP_EVERY_MS).unref()
  return {
    server,
    async stop() {
      clearInterval(sweeping)
      stopping.abort()
      // Jobs are given back at once, so that another service goes on with them.
      const handedBack = Promise.all([runner.stop(), sealer.stop()])
      await closeServer(server, connections, config.stopLimitMs)
      await Promise.race([handedBack, delay(config.stopLimitMs, undefined, { ref: false })])
      const closed = openWalks.stopAll().then(() => Promise.all([targets.close(), home.close(), reading.close()]))
      await Promise.race([closed, delay(config.stopLimitMs, undefined, { ref: false })])
    },
  }
}

function listen(server: Server, { host, port }: ServiceConfig): Promise<void> {
  return new Promise((resolve, reject) => {
    server.once('error', (error: NodeJS.ErrnoException) =>
      reject(
        error.code === 'EADDRINUSE'
          ? new Error(`port ${port} on ${host} is in use: stop what listens there, or set LEDGERMAN_PORT`)
          : error,
      ),
    )
    server.listen(port, host, () => resolve())
  })
}

function connectionsOf(server: Server): ReadonlySet<Socket> {
  const connections = new Set<Socket>()
  server.on('connection', (socket) => {
    connections.add(socket)
    socket.once('close', () => connections.delete(socket))
  })
  return connections
}

async function closeServer(server: Server, connections: ReadonlySet<Socket>, limitMs: number): Promise<void> {
  const closed = new Promise<void>((resolve) => server.close(() => resolve()))
  server.closeIdleConnections()
  // Browsers open spare ones. Nothing has been asked on them, and Node does not count them as idle.
  for (const socket of connections) if (socket.bytesRead === 0) socket.destroy()
  await Promise.race([closed, delay(limitMs, undefined, { ref: false })])
  server.closeAllConnections()
}

async function warnAboutTargets(targets: TargetRegistry, log: Logger): Promise<void> {
  for (const name of targets.names()) {
    const { problem, warnings } = await targets.describe(targets.get(name))
    if (problem !== null) log.warn({ target: name, problem }, 'target cannot be reached')
    for (const warning of warnings) log.warn({ target: name, warning }, 'target warning')
  }
}
