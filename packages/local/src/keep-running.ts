import type { ChildProcess } from 'node:child_process'
import { setTimeout as delay } from 'node:timers/promises'

export interface Running {
  process: ChildProcess
  stop(): Promise<void>
}

/** A process that is started again when it ends by itself, until it is told to stop. */
export interface Kept {
  /** Asked again, the process is told again, which may make it hurry. */
  stop(): Promise<void>
}

/**
 * Keeps a started process running: a database or service that was killed comes back, and the other one, which stays up,
 * finds it again.
 *
 * @param again starts it again; undefined where somebody else already has.
 */
export function keepRunning(
  name: string,
  first: Running,
  again: () => Promise<Running | undefined>,
  waitMs: number,
  say: (text: string) => void,
): Kept {
  let current: Running | undefined = first
  const stopping = new AbortController()
  const watching = watch()

  async function watch(): Promise<void> {
    while (!stopping.signal.aborted) {
      if (current) {
        await ended(current.process)
        if (stopping.signal.aborted) return
        say(`${name} ended unexpectedly; starting it again in ${waitMs / 1000} s`)
        current = undefined
      }
      await delay(waitMs, undefined, { signal: stopping.signal }).catch(() => undefined)
      if (stopping.signal.aborted) return
      current = await again().catch(
        (error: unknown) => void say(error instanceof Error ? error.message : String(error)),
      )
    }
  }

  return {
    async stop() {
      stopping.abort()
      await current?.stop()
      await watching
    },
  }
}

function ended(child: ChildProcess): Promise<void> {
  if (child.exitCode !== null || child.signalCode !== null) return Promise.resolve()
  return new Promise((resolve) => child.once('exit', () => resolve()))
}
