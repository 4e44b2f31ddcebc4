import { readFileSync } from 'node:fs'
import { dirname, resolve } from 'node:path'
import { parse } from 'yaml'
import { z } from 'zod'
import { checkInput, describeIssues, sayIssue } from '@ledgerman/contract'
import { readSecret } from './secret.js'

const milliseconds = z.int().min(1).max(3_600_000)

const targetConfig = z.strictObject({
  url: z.string().min(1),
  connections: z.int().min(1).max(500).default(20),
  lockWaitMs: milliseconds.default(2_000),
  timeLimitMs: milliseconds.default(10_000),
  prepareStatements: z.boolean().default(true),
  demo: z.boolean().default(false).describe('Whether held rows and the like may be staged on it.'),
})

const configFile = z.strictObject({
  host: z.string().min(1).default('127.0.0.1'),
  port: z.int().min(1).max(65_535).default(4680),
  proxies: z
    .array(z.union([z.ipv4(), z.ipv6(), z.cidrv4(), z.cidrv6()], 'expected an address, or a range such as 10.0.0.0/8'))
    .default([])
    .describe('Proxies in front of the service, which are believed when they say who calls, and by what address.'),
  dataDir: z.string().min(1).default('.ledgerman'),
  logLevel: z.enum(['trace', 'debug', 'info', 'warn', 'error', 'silent']).default('info'),
  bodyLimitBytes: z
    .int()
    .min(1_000)
    .max(256 * 1024 * 1024)
    .default(1024 * 1024)
    .describe('How large the body of a request may be, in bytes.'),
  stopLimitMs: milliseconds.default(20_000).describe('For how long a stop waits for what still runs.'),
  jobs: z
    .strictObject({
      atOnce: z.int().min(1).max(100).default(4).describe('Jobs that this service runs at once.'),
      perTarget: z.int().min(1).max(100).default(2).describe('Jobs at once on one target, of all services.'),
      timeLimitMs: z
        .int()
        .min(100)
        .max(24 * 3_600_000)
        .default(3_600_000)
        .describe('How long one statement of a job may take.'),
      fileLimitBytes: z
        .int()
        .min(1_000)
        .max(16 * 1024 ** 3)
        .default(512 * 1024 * 1024)
        .describe('How large a file of corrections may be, in bytes.'),
      keepHours: z
        .int()
        .min(1)
        .max(24 * 365)
        .default(24)
        .describe('For how long the rows of a file are kept once its job is over.'),
    })
    .prefault({}),
  sealKey: z
    .string()
    .regex(/^file:./, 'expected file:PATH')
    .optional()
    .describe('The private key that seals are signed with; made in the data folder where none is named.'),
  sealEveryMs: milliseconds.default(2_000).describe('How often it is looked for entries that no seal covers.'),
  home: z.strictObject({ url: z.string().min(1), connections: z.int().min(1).max(100).default(5) }),
  targets: z.record(z.string().regex(/^[A-Za-z0-9_-]+$/), targetConfig).default({}),
})

export type ServiceConfig = z.output<typeof configFile>

/**
 * Reads the YAML file that `LEDGERMAN_CONFIG` names, with `LEDGERMAN_HOST`, `LEDGERMAN_PORT` and `LEDGERMAN_DATA_DIR`
 * over it, and resolves its secrets. The result is frozen.
 *
 * @throws Error that says what is wrong where.
 */
export function readServiceConfig(env: NodeJS.ProcessEnv): Readonly<ServiceConfig> {
  const path = env['LEDGERMAN_CONFIG']
  if (!path) throw new Error('LEDGERMAN_CONFIG is not set: it names the configuration file')
  const baseDir = dirname(resolve(path))
  const input: unknown = { ...(parse(readFileSync(path, 'utf8')) as object), ...fromEnvironment(env) }
  const checked = checkInput(configFile, input)
  if (!checked.success) {
    const findings = describeIssues(checked.error, input, { isSecret: (where) => where.endsWith('url') })
    throw new Error(`${path}: ${findings.map(sayIssue).join('; ')}`)
  }
  const config = checked.data
  const secret = (where: string, reference: string) => {
    try {
      return readSecret(reference, baseDir, env)
    } catch (error) {
      throw new Error(`${path}: ${where}: ${(error as Error).message}`, { cause: error })
    }
  }
  const targets = Object.entries(config.targets).map(([name, target]) => [
    name,
    { ...target, url: secret(`targets.${name}.url`, target.url) },
  ])
  return Object.freeze({
    ...config,
    dataDir: resolve(baseDir, config.dataDir),
    sealKey: config.sealKey === undefined ? undefined : resolve(baseDir, config.sealKey.slice('file:'.length)),
    home: { ...config.home, url: secret('home.url', config.home.url) },
    targets: Object.fromEntries(targets) as ServiceConfig['targets'],
  })
}

function fromEnvironment(env: NodeJS.ProcessEnv): Record<string, unknown> {
  const port = env['LEDGERMAN_PORT']
  return {
    ...(env['LEDGERMAN_HOST'] ? { host: env['LEDGERMAN_HOST'] } : {}),
    ...(port ? { port: /^\d+$/.test(port) ? Number(port) : port } : {}),
    ...(env['LEDGERMAN_DATA_DIR'] ? { dataDir: resolve(env['LEDGERMAN_DATA_DIR']) } : {}),
  }
}
