import { chmodSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { stringify } from 'yaml'
import { Failure } from './failure.js'
import type { Settings } from './settings.js'
import type { DemoDatabases } from './databases.js'

/** A database of one's own: its name, and its address or where that is kept (`env:VAR`, `file:PATH`). */
export interface ExtraTarget {
  name: string
  address: string
}

/** @throws Failure for anything but NAME=URL, NAME=env:VAR or NAME=file:PATH. */
export function parseExtraTarget(text: string): ExtraTarget {
  const parts = /^([A-Za-z0-9_-]+)=(env:\w+|file:.+|postgres(?:ql)?:\/\/.+)$/.exec(text)
  if (!parts)
    throw new Failure(
      `--target ${text.replace(/:[^:@/]*@/, ':…@')}: expected NAME=postgres://…, NAME=env:VARIABLE or NAME=file:PATH; a name is letters, digits, - and _.`,
    )
  return { name: parts[1] ?? '', address: parts[2] ?? '' }
}

/**
 * Writes the service's configuration file. An address given on the command line is handed over in the environment, so that
 * its password stands in no file.
 */
export function writeServiceConfig(
  settings: Settings,
  databases: DemoDatabases,
  extra: ExtraTarget[],
): { file: string; env: NodeJS.ProcessEnv } {
  const env: NodeJS.ProcessEnv = { ...process.env }
  const targets: Record<string, { url: string; demo?: boolean }> = {
    observatory: { url: `file:${databases.observatoryUrlFile}`, demo: true },
  }
  extra.forEach(({ name, address }, at) => {
    if (targets[name]) throw new Failure(`--target ${name}: there is a target of that name already.`)
    const variable = `LEDGERMAN_EXTRA_TARGET_${at + 1}`
    if (address.startsWith('postgres')) env[variable] = address
    targets[name] = { url: address.startsWith('postgres') ? `env:${variable}` : address }
  })
  const file = join(settings.dataDir, 'config.yaml')
  const config = {
    host: settings.host,
    port: settings.port,
    dataDir: settings.dataDir,
    home: { url: `file:${databases.homeUrlFile}` },
    targets,
  }
  writeFileSync(file, `# Written by bin/start at every start.\n${stringify(config)}`, { mode: 0o600 })
  chmodSync(file, 0o600)
  return { file, env }
}
