import { spawn } from 'node:child_process'
import { existsSync, mkdtempSync, readFileSync, rmSync, statfsSync } from 'node:fs'
import { freemem, tmpdir } from 'node:os'
import { join, relative } from 'node:path'
import { removeCluster, startCluster } from './cluster.js'
import { findFreePort } from './ports.js'
import type { Settings } from './settings.js'

/** One file's tests, as Jest reports them. */
interface TestFile {
  name: string
  status: string
  assertionResults: { status: string }[]
}

// More than these are no accident of a busy machine.
const MOST_RUN_AGAIN = 6

/**
 * Runs the tests against a PostgreSQL server that is made for them and removed afterwards. Up to six files that fail
 * are named and run once more, with the machine to themselves: what passes then was short of time, not wrong.
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
  const jest = async (...choice: string[]): Promise<TestFile[]> => {
    rmSync(report, { force: true })
    const args = [join(root, 'node_modules/jest/bin/jest.js'), '--json', `--outputFile=${report}`, ...choice]
    if (projects.length > 0) args.push('--selectProjects', ...projects)
    if (pattern !== undefined) args.push('--testNamePattern', pattern)
    const env = {
      ...process.env,
      // Much that a test makes is garbage soon: more room for what is young, and it is collected less often.
      NODE_OPTIONS: '--experimental-vm-modules --no-warnings --max-semi-space-size=64',
      LEDGERMAN_TEST_PG: cluster.adminUrl('postgres'),
    }
    const code = await run(args, root, env)
    return readReport(report, code)
  }
  try {
    let files = await jest()
    const broken = files.filter((file) => count([file]).failed > 0).map(({ name }) => name)
    if (broken.length > 0 && broken.length <= MOST_RUN_AGAIN && broken.every((name) => existsSync(name))) {
      say(`failed: ${broken.map((name) => relative(root, name)).join(', ')}. Running again, with nothing beside.`)
      const again = await jest('--runInBand', '--runTestsByPath', ...broken)
      files = [...files.filter(({ name }) => !broken.includes(name)), ...again]
      if (count(again).failed === 0) say('passed the second time. The machine was busy, or a test depends on timing.')
    }
    const { passed, failed } = count(files)
    process.stdout.write(`\n${passed} passed, ${failed} failed\n`)
    return failed === 0 && passed > 0
  } finally {
    await cluster.stop()
    removeCluster(dataDir)
    rmSync(dataDir, { recursive: true, force: true })
    process.off('SIGINT', interrupt)
  }
}

const say = (words: string) => process.stderr.write(`\nledgerman: ${words}\n\n`)

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

/** Nothing is taken as passed that Jest did not end well, or did not report. */
function readReport(path: string, code: number | null): TestFile[] {
  const lost = { name: '', status: 'failed', assertionResults: [] }
  try {
    const { testResults } = JSON.parse(readFileSync(path, 'utf8')) as { testResults: TestFile[] }
    return code === 0 || count(testResults).failed > 0 ? testResults : [...testResults, lost]
  } catch {
    return [lost]
  }
}

/** A file that could not be run counts as one test that failed. */
function count(files: TestFile[]): { passed: number; failed: number } {
  const tests = files.flatMap(({ status, assertionResults }) =>
    status === 'failed' && !assertionResults.some((test) => test.status === 'failed')
      ? [{ status }, ...assertionResults]
      : assertionResults,
  )
  const having = (status: string) => tests.filter((test) => test.status === status).length
  return { passed: having('passed'), failed: having('failed') }
}
