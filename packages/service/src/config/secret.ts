import { readFileSync } from 'node:fs'
import { resolve } from 'node:path'

/**
 * Reads a secret from where the configuration says it is: `env:NAME` or `file:PATH` (relative to the configuration file).
 * An address that carries no password may stand in the configuration itself.
 *
 * @throws Error that names the place, never the secret.
 */
export function readSecret(reference: string, baseDir: string, env: NodeJS.ProcessEnv): string {
  const [, kind, rest = ''] = /^(env|file):(.+)$/.exec(reference) ?? []
  if (kind === 'env') {
    const value = env[rest]
    if (!value) throw new Error(`the environment variable ${rest} is not set`)
    return value
  }
  if (kind === 'file') return readFileSync(resolve(baseDir, rest), 'utf8').trim()
  if (/^postgres(ql)?:\/\/[^/@:]*:[^/@]+@/.test(reference)) {
    throw new Error('an address with a password does not belong in the configuration: use env:NAME or file:PATH')
  }
  return reference
}
