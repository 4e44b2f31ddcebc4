import { execFile } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { startTestService, type RunningService } from '../../../testing/running-service.js'

export const PROGRAM = join(import.meta.dirname, '../bin/ledgerman.cjs')

export interface Ended {
  exit: number
  out: string
  err: string
}

/** A service, and the command line in front of it, each call a process of its own. */
export interface CommandLine {
  service: RunningService
  /** For files of the test; the login is kept there as well. */
  folder: string
  /** Runs the command, signed in by the environment unless told otherwise. */
  run(words: string[], env?: Record<string, string>): Promise<Ended>
  /** What the command prints as JSON. */
  json<T = Record<string, unknown>>(words: string[]): Promise<T>
  close(): Promise<void>
}

export async function openCommandLine(): Promise<CommandLine> {
  const service = await startTestService()
  const folder = mkdtempSync(join(tmpdir(), 'ledgerman-cli-'))
  const run = (
    words: string[],
    env: Record<string, string> = { LEDGERMAN_URL: service.url, LEDGERMAN_TOKEN: service.token },
  ): Promise<Ended> =>
    new Promise((resolve) => {
      execFile(
        process.execPath,
        [PROGRAM, ...words],
        { env: { PATH: process.env['PATH'], NO_COLOR: '1', XDG_CONFIG_HOME: folder, ...env } },
        (error, out, err) => resolve({ exit: typeof error?.code === 'number' ? error.code : 0, out, err }),
      ).stdin?.end()
    })
  return {
    service,
    folder,
    run,
    json: async <T>(words: string[]) => JSON.parse((await run([...words, '--json'])).out) as T,
    async close() {
      rmSync(folder, { recursive: true, force: true })
      await service.stop()
    },
  }
}
