import type { ChildProcess } from 'node:child_process'

/** How long a service or a server may take to finish what runs, in milliseconds. */
export const STOP_LIMIT_MS = 30_000

/** How a process is asked to end, and what ends it where it has not after so many milliseconds. */
export interface Ending {
  ask: NodeJS.Signals
  force: NodeJS.Signals
  limitMs: number
}

/** Asks a process to end, and waits for that: one that hangs is ended by force. */
export function endProcess(child: ChildProcess, { ask, force, limitMs }: Ending): Promise<void> {
  if (child.exitCode !== null || child.signalCode !== null) return Promise.resolve()
  return new Promise((resolve) => {
    const timer = setTimeout(() => child.kill(force), limitMs)
    child.once('exit', () => {
      clearTimeout(timer)
      resolve()
    })
    child.kill(ask)
  })
}
