import { spawn } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, statfsSync } from 'node:fs'
import { freemem, tmpdir } from 'node:os'
import { join } from 'node:path'
import { removeCluster, startCluster } from './cluster.js'
import { findFreePort } from './ports.js'
import type { Settings } from './settings.js'

/**
 * Runs the tests against a PostgreSQL server that is made for them and removed afterwards.
 *
 * @param projects the Jest projects to run; all where empty.
 * @returns whether all passed.
 */
export async function test({ root }: Settings, projects: string[], pattern: string | undefined): Promise<boolean> {
  const dataDir = mkdtempSync(join(quickFolder(), 'ledgerman-test-'))
  const settings = { max_prepared_transactions: '10' }
  const cluster = await startCluster({ dataDir, port: await findFreePort(), settings })
  const report = join(dataDir, 'report.json')
  const interrupt = () => void 0
  process.on('SIGINT', interrupt)
  try {
    const args = [join(root, 'node_modules/jest/bin/jest.js'), '--json', `--outputFile=${report}`]
    if (projects.length > 0) args.push('--selectProjects', ...projects)
    if (pattern !== undefined) args.push('--testNamePattern', pattern)
    const env = {
      ...process.env,
      NODE_OPTIONS: '--experimental-vm-modules --no-warnings',
      LEDGERMAN_TEST_PG: cluster.adminUrl('postgres'),
    }
    const code = await run(args, root, env)
    const { passed, failed } = countTests(report)
    process.stdout.write(`\n${passed} passed, ${failed} failed\n`)
    return code === 0 && failed === 0 && passed > 0
  } finally {
    await cluster.stop()
    removeCluster(dataDir)
    rmSync(dataDir, { recursive: true, force: true })
    process.off('SIGINT', interrupt)
  }
}

const MEMORY = '/dev/shm'
const NEEDED_BYTES = 8 * 2 ** 30

/** In memory, where there is plenty: hundreds of databases are made and dropped, and waiting for the disk proves nothing. */
function quickFolder(): string {
  try {
    const { bavail, bsize } = statfsSync(MEMORY)
    return bavail * bsize >= NEEDED_BYTES && freemem() >= 2 * NEEDED_BYTES ? MEMORY : tmpdir()
  } catch {
    return tmpdir()
  }
}

function run(args: string[], cwd: string, env: NodeJS.ProcessEnv): Promise<number | null> {
  // Jest prints its report twice with --json: the readable one goes to standard error, which is passed on.
  const child = spawn(process.execPath, args, { cwd, env, stdio: ['ignore', 'ignore', 'inherit'] })
  return new Promise((resolve) => child.once('exit', resolve))
}

function countTests(report: string): { passed: number; failed: number } {
  try {
    const { numPassedTests, numFailedTests, numRuntimeErrorTestSuites } = JSON.parse(
      readFileSync(report, 'utf8'),
    ) as Record<string, number>
    return { passed: numPassedTests ?? 0, failed: (numFailedTests ?? 0) + (numRuntimeErrorTestSuites ?? 0) }
  } catch {
    return { passed: 0, failed: 1 }
  }
}
