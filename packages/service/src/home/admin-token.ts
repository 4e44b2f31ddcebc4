import { existsSync, mkdirSync, rmSync, writeFileSync } from 'node:fs'
import { hostname } from 'node:os'
import { join } from 'node:path'
import type { TokenStore } from './token-store.js'

/**
 * Makes the first admin token, and another one whenever its file, or the last token of an admin, is gone, and keeps it in `admin-token` in the data
 * folder, readable by its owner only. Whoever can write there owns this service anyway.
 *
 * @returns the file.
 */
export async function ensureAdminToken(tokens: TokenStore, dataDir: string): Promise<string> {
  const file = join(dataDir, 'admin-token')
  if (existsSync(file) && (await tokens.hasAdmin())) return file
  mkdirSync(dataDir, { recursive: true })
  const taken = new Set((await tokens.list(null)).map(({ name }) => name))
  const name =
    ['admin', `admin on ${hostname()}`].find((each) => !taken.has(each)) ?? `admin ${new Date().toISOString()}`
  const { token } = await tokens.add({ name, role: 'admin' })
  rmSync(file, { force: true })
  writeFileSync(file, `${token}\n`, { mode: 0o600, flag: 'wx' })
  return file
}
