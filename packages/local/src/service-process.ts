import { spawn, type ChildProcess } from 'node:child_process'
import { closeSync, openSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { setTimeout as delay } from 'node:timers/promises'
import { endProcess, STOP_LIMIT_MS } from './end-process.js'
import { Failure } from './failure.js'
import { SERVICE_PID } from './leftovers.js'

export interface ServiceProcess {
  url: string
  process: ChildProcess
  /** Asks it to finish what runs and stop, and waits for that; asked again, it stops at once. One that hangs is ended by force. */
  stop(): Promise<void>
}

/** How long it may take to be ready, and to say so each time it is asked, in milliseconds: a machine may be very busy. */
const START_LIMIT_MS = 60_000
const ASKED_LIMIT_MS = 5_000
/** How long it may take to stop at once, in milliseconds. */
const HURRY_LIMIT_MS = 1_000

/**
 * Starts the service as a process of its own, its log in the data folder, and waits until it is ready.
 *
 * @throws Failure with the end of its log.
 */
export async function startService(options: {
  root: string
  configFile: string
  dataDir: string
  url: string
  env: NodeJS.ProcessEnv
}): Promise<ServiceProcess> {
  const log = join(options.dataDir, 'service.log')
  const logFd = openSync(log, 'a', 0o600)
  const child = spawn(process.execPath, [join(options.root, 'packages/service/bin/ledgerman-service.js')], {
    stdio: ['ignore', logFd, logFd],
    detached: true,
    env: { ...options.env, LEDGERMAN_CONFIG: options.configFile },
  })
  closeSync(logFd)
  writeFileSync(join(options.dataDir, SERVICE_PID), `${child.pid}\n`)
  const deadline = performance.now() + START_LIMIT_MS
  while (!(await isReady(options.url))) {
    if (child.exitCode !== null || performance.now() > deadline) {
      const what = child.exitCode !== null ? 'did not start' : `was not ready within ${START_LIMIT_MS / 1000} s`
      child.kill('SIGKILL')
      throw new Failure(
        `The service ${what}; its log says:\n${readFileSync(log, 'utf8').trimEnd().split('\n').slice(-5).join('\n')}`,
      )
    }
    await delay(50)
  }
  let limitMs = STOP_LIMIT_MS
  return {
    url: options.url,
    process: child,
    stop() {
      const ended = endProcess(child, { ask: 'SIGTERM', force: 'SIGKILL', limitMs })
      limitMs = HURRY_LIMIT_MS
      return ended
    },
  }
}

function isReady(url: string): Promise<boolean> {
  return fetch(`${url}/readyz`, { signal: AbortSignal.timeout(ASKED_LIMIT_MS) }).then(
    (answer) => answer.ok,
    () => false,
  )
}
