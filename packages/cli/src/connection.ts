import { mkdirSync, readFileSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { LedgermanClient, type TargetClient } from '@ledgerman/client'
import { LedgermanProblem, suggestName, type PlaceholderStyle } from '@ledgerman/contract'
import { replaceFile } from './replace-file.js'
import { sendRequest } from './http/send-request.js'

interface Login {
  url: string
  token: string
}

/** Where `ledgerman login` keeps the address and the token, readable by its owner only; undefined for a user without a home. */
export function loginFile(env: NodeJS.ProcessEnv): string | undefined {
  const home = homeOf(env)
  const folder = env['XDG_CONFIG_HOME'] || (home && join(home, '.config'))
  return folder && join(folder, 'ledgerman', 'login.json')
}

/** Node's module for it is loaded only where the environment does not say: it takes longer than reading the file. */
function homeOf(env: NodeJS.ProcessEnv): string | undefined {
  if (env['HOME']) return env['HOME']
  try {
    return process.getBuiltinModule('node:os').homedir()
  } catch {
    // The system does not know the user, as in a container that runs with any number.
    return undefined
  }
}

export function saveLogin(file: string, login: Login): void {
  mkdirSync(dirname(file), { recursive: true, mode: 0o700 })
  replaceFile(file, `${JSON.stringify(login)}\n`, 0o600)
}

/** @throws LedgermanProblem request-invalid where it is no address that can be called. */
export function assertAddress(url: string, where: string): void {
  if (/^https?:\/\//i.test(url) && URL.canParse(url)) return
  throw new LedgermanProblem(
    'request-invalid',
    `"${url}" is no address of a service: expected one such as http://127.0.0.1:4680.`,
    { where },
  )
}

/** Connects as the environment says (`LEDGERMAN_URL`, `LEDGERMAN_TOKEN`), else as `ledgerman login` left it. */
export function connect(env: NodeJS.ProcessEnv, style?: PlaceholderStyle): LedgermanClient {
  const kept = readLogin(loginFile(env))
  const url = env['LEDGERMAN_URL'] || kept?.url
  // A token is for the service it was given for: one kept by login is not sent anywhere else.
  const token = env['LEDGERMAN_TOKEN'] || (kept !== undefined && kept.url === url ? kept.token : undefined)
  if (url === undefined || token === undefined) {
    throw new LedgermanProblem(
      'unauthenticated',
      'Not signed in: run ledgerman login URL, or set LEDGERMAN_URL and LEDGERMAN_TOKEN.',
    )
  }
  assertAddress(url, 'LEDGERMAN_URL')
  return new LedgermanClient({ url, token, fetch: sendRequest, style })
}

/**
 * The target to work on: `--target`, else `LEDGERMAN_TARGET`, else the only one there is.
 *
 * @throws LedgermanProblem request-invalid where there are several and none was chosen.
 */
export async function chooseTarget(
  client: LedgermanClient,
  named: string | undefined,
  env: NodeJS.ProcessEnv,
): Promise<TargetClient> {
  const name = named ?? env['LEDGERMAN_TARGET']
  if (name) return client.target(name)
  const names = (await client.targets()).map((target) => target.name)
  if (names.length === 1 && names[0] !== undefined) return client.target(names[0])
  throw new LedgermanProblem(
    'request-invalid',
    `Which target? Give --target NAME, or set LEDGERMAN_TARGET. ${suggestName('', names)}`,
    { where: 'target' },
  )
}

function readLogin(file: string | undefined): Login | undefined {
  if (file === undefined) return undefined
  try {
    const { url, token } = JSON.parse(readFileSync(file, 'utf8')) as Partial<Login>
    return typeof url === 'string' && typeof token === 'string' ? { url, token } : undefined
  } catch {
    return undefined
  }
}
