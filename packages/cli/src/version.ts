import { readFileSync } from 'node:fs'

/** The version of this program, as its package says. */
export const { version } = JSON.parse(readFileSync(new URL('../package.json', import.meta.url), 'utf8')) as {
  version: string
}
