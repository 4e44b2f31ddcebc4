import { copyFileSync, existsSync, statSync, truncateSync } from 'node:fs'

/** How large a log may grow before it is put aside, in bytes. One older file is kept of each. */
const LOG_LIMIT = 20 * 2 ** 20
const LOOK_EVERY_MS = 30_000

/**
 * Keeps logs from growing without end: a log above the limit becomes `NAME.1`, and goes on empty. Who writes it holds it open for
 * appending, so it is copied and cut off in place.
 */
export function keepLogsShort(paths: readonly string[]): { stop(): void } {
  const look = () => {
    for (const path of paths) shorten(path)
  }
  look()
  const timer = setInterval(look, LOOK_EVERY_MS).unref()
  return { stop: () => clearInterval(timer) }
}

function shorten(path: string): void {
  try {
    if (!existsSync(path) || statSync(path).size <= LOG_LIMIT) return
    copyFileSync(path, `${path}.1`)
  } catch {
    // Without room for the copy, the end of the log is worth less than the room.
  }
  try {
    if (existsSync(path) && statSync(path).size > LOG_LIMIT) truncateSync(path)
  } catch {
    // Looked at again soon.
  }
}
