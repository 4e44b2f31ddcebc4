import { resolve } from 'node:path'
import { fileURLToPath } from 'node:url'
import { Failure } from './failure.js'

/** Where things are and on which ports they listen. */
export interface Settings {
  /** The checkout. */
  root: string
  dataDir: string
  host: string
  port: number
  postgresPort: number
}

const ROOT = fileURLToPath(new URL('../../../', import.meta.url))

/**
 * Reads the environment: `LEDGERMAN_DATA_DIR` (.ledgerman in the checkout), `LEDGERMAN_HOST` (127.0.0.1),
 * `LEDGERMAN_PORT` (4680), `LEDGERMAN_PG_PORT` (54680).
 *
 * @throws Failure for a port that is none.
 */
export function readSettings(env: NodeJS.ProcessEnv): Settings {
  return {
    root: ROOT,
    dataDir: resolve(env['LEDGERMAN_DATA_DIR'] || resolve(ROOT, '.ledgerman')),
    host: env['LEDGERMAN_HOST'] || '127.0.0.1',
    port: readPort(env, 'LEDGERMAN_PORT', 4680),
    postgresPort: readPort(env, 'LEDGERMAN_PG_PORT', 54680),
  }
}

function readPort(env: NodeJS.ProcessEnv, name: string, otherwise: number): number {
  const text = env[name]
  if (text === undefined || text === '') return otherwise
  const port = Number(text)
  if (Number.isInteger(port) && port > 0 && port < 65_536) return port
  throw new Failure(`${name}: expected a port from 1 to 65535, got "${text}".`)
}
