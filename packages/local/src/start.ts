import { existsSync, mkdirSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { removeCluster, startCluster } from './cluster.js'
import { demoDefinitions, prepareDatabases } from './databases.js'
import { publishDemo } from './demo-definitions.js'
import { Failure } from './failure.js'
import { keepRunning, type Kept } from './keep-running.js'
import { endLeftovers, isOurs, SERVICE_PID } from './leftovers.js'
import { keepLogsShort } from './log-files.js'
import { assertPortFree, isPortFree } from './ports.js'
import { parseExtraTarget, writeServiceConfig } from './service-config.js'
import { startService } from './service-process.js'
import type { Settings } from './settings.js'

export interface StartOptions {
  reset: boolean
  /** NAME=URL, NAME=env:VAR or NAME=file:PATH each. */
  target: string[]
}

/** Everything that one start makes in the data folder; `--reset` removes these and leaves anything else alone. */
const OWN_FILES = [
  'admin-token',
  'config.yaml',
  'postgres-password',
  'postgres.log',
  'service.log',
  'service.log.1',
  'postgres.log.1',
  'ledgerman_home.url',
  'observatory_owner.url',
  'ledgerman_observatory.url',
]

/** Starts the database, the demo and the service, and keeps them running until a signal. */
export async function start(settings: Settings, options: StartOptions): Promise<void> {
  const since = performance.now()
  const extra = options.target.map(parseExtraTarget)
  const pidFile = claimDataDir(settings)
  let cluster: Kept | undefined
  let service: Kept | undefined
  const stop = async (): Promise<void> => {
    logs.stop()
    await service?.stop()
    await cluster?.stop()
    rmSync(join(settings.dataDir, SERVICE_PID), { force: true })
    rmSync(pidFile, { force: true })
  }
  // Whoever asks twice does not want to wait for what still runs.
  const interrupted = onSignal(() => void service?.stop())
  const logs = keepLogsShort(['service.log', 'postgres.log'].map((name) => join(settings.dataDir, name)))
  try {
    await endLeftovers(settings.dataDir, say)
    await assertPortFree(settings.host, settings.port, 'LEDGERMAN_PORT')
    await assertPortFree('127.0.0.1', settings.postgresPort, 'LEDGERMAN_PG_PORT')
    if (options.reset) reset(settings, say)
    if (!existsSync(join(settings.dataDir, 'postgres-password')))
      say(`making a PostgreSQL server of its own in ${settings.dataDir}`)
    const postgres = { dataDir: settings.dataDir, port: settings.postgresPort }
    const started = await startCluster(postgres)
    cluster = keepRunning(
      'PostgreSQL',
      started,
      () => unlessInUse(settings.postgresPort, () => startCluster(postgres)),
      5_000,
      say,
    )
    const demoDir = join(settings.root, 'demo')
    const databases = await prepareDatabases(started, settings.dataDir, demoDir, say)
    const { file, env } = writeServiceConfig(settings, databases, extra)
    const url = `http://${settings.host.includes(':') ? `[${settings.host}]` : settings.host}:${settings.port}`
    const serviceOptions = { root: settings.root, configFile: file, dataDir: settings.dataDir, url, env }
    service = keepRunning(
      'The service',
      await startService(serviceOptions),
      () => startService(serviceOptions),
      1_000,
      say,
    )
    const token = readFileSync(join(settings.dataDir, 'admin-token'), 'utf8').trim()
    await publishDemo(url, token, demoDefinitions(demoDir), say)
    greet(settings, url, token, (performance.now() - since) / 1000)
    await interrupted
    say('stopping')
  } finally {
    await stop()
  }
}

/** One start a data folder: a second one would share its files. */
function claimDataDir({ dataDir, port }: Settings): string {
  mkdirSync(dataDir, { recursive: true, mode: 0o711 })
  const pidFile = join(dataDir, 'start.pid')
  if (existsSync(pidFile)) {
    const pid = Number(readFileSync(pidFile, 'utf8'))
    if (pid !== process.pid && isOurs(pid, 'ledgerman-local'))
      throw new Failure(
        `Ledgerman runs on this data folder already (process ${pid}). Stop that first, or choose another: LEDGERMAN_DATA_DIR=FOLDER LEDGERMAN_PORT=${port + 1} LEDGERMAN_PG_PORT=PORT bin/start`,
      )
  }
  writeFileSync(pidFile, `${process.pid}\n`)
  return pidFile
}

function reset(settings: Settings, tell: (text: string) => void): void {
  tell(`removing all data in ${settings.dataDir}`)
  removeCluster(settings.dataDir)
  for (const name of OWN_FILES) rmSync(join(settings.dataDir, name), { force: true })
}

function greet(settings: Settings, url: string, token: string, seconds: number): void {
  process.stdout.write(`
Ledgerman is ready (${seconds.toFixed(1)} s). Ctrl-C stops it.

  Console     ${url}/
  Token       ${token}
              (also in ${join(settings.dataDir, 'admin-token')})
  Shell       bin/ledgerman login ${url} --token-file ${join(settings.dataDir, 'admin-token')}
  Demo        psql "$(cat ${join(settings.dataDir, 'observatory_owner.url')})"

`)
}

function say(text: string): void {
  process.stderr.write(`ledgerman: ${text}\n`)
}

/** Resolves to null at the first SIGINT, SIGTERM or SIGHUP; later ones call `again`. */
function onSignal(again: () => void): Promise<null> {
  return new Promise((resolve) => {
    let isFirst = true
    for (const signal of ['SIGINT', 'SIGTERM', 'SIGHUP'] as const)
      process.on(signal, () => {
        if (!isFirst) again()
        isFirst = false
        resolve(null)
      })
  })
}

/** Undefined where somebody else listens there by now: a server started by hand is as good. */
async function unlessInUse<T>(port: number, start: () => Promise<T>): Promise<T | undefined> {
  return (await isPortFree('127.0.0.1', port)) ? start() : undefined
}
