import { execFile } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

const ROOT = join(import.meta.dirname, '../../../..')

// What somebody installs who has nothing of this repository but two archives.
let service: RunningService
let dir: string
beforeAll(async () => {
  service = await startTestService()
  dir = mkdtempSync(join(tmpdir(), 'ledgerman-client-'))
})
afterAll(async () => {
  rmSync(dir, { recursive: true, force: true })
  await service.stop()
})

const env = { ...process.env, NODE_OPTIONS: '' }
/** What a program prints; what it says where it fails. The service runs in this process: it must not be held up. */
async function run(command: string, words: string[], cwd: string, more = {}): Promise<string> {
  const { stdout } = await promisify(execFile)(command, words, { cwd, env: { ...env, ...more } }).catch(
    (error: { stdout: string; stderr: string }) => Promise.reject(new Error(error.stdout + error.stderr)),
  )
  return stdout
}

describe('the client as a package', () => {
  it('installs in an empty folder, has its types, and changes a record', async () => {
    const workspaces = ['contract', 'client'].flatMap((name) => ['--workspace', `@ledgerman/${name}`])
    await run('npm', ['pack', ...workspaces, '--pack-destination', dir, '--ignore-scripts'], ROOT)
    writeFileSync(join(dir, 'package.json'), '{ "type": "module", "private": true }')
    const archives = ['contract', 'client'].map((name) => `./ledgerman-${name}-0.1.0.tgz`)
    await run('npm', ['install', ...archives, '--prefer-offline', '--no-audit', '--no-fund', '--ignore-scripts'], dir)
    const readme = readFileSync(join(dir, 'node_modules/@ledgerman/client/README.md'), 'utf8')
    const [example = ''] = /(?<=```js\n)[\s\S]*?(?=```)/.exec(readme) ?? []
    const program = example
      .replace(`'http://127.0.0.1:4680'`, 'process.env.LEDGERMAN_URL!')
      .replace('process.env.LEDGERMAN_TOKEN', 'process.env.LEDGERMAN_TOKEN!')
      .replace(/\{ guard \}/g, `{ guard: guard ?? '*' }`)
    writeFileSync(
      join(dir, 'use.ts'),
      `declare const process: { env: Record<string, string | undefined> }\ndeclare const console: { log(...all: unknown[]): void }\n${program}
try { await observatory.change('programme', ['P-107'], { hoursLeft: '9.00' }, { guard: 'v1' }) } catch (error) {
  if (!isProblem(error, 'record-changed')) throw error
  console.log(error.yours?.['hoursLeft'], error.current?.['hoursLeft'], error instanceof Error, record['code'])
}`,
    )
    const options = ['--strict', '--module', 'nodenext', '--target', 'es2023', '--skipLibCheck', '--ignoreConfig']
    await run(process.execPath, [join(ROOT, 'node_modules/typescript/bin/tsc'), ...options, 'use.ts'], dir)
    const said = await run(process.execPath, ['use.js'], dir, {
      LEDGERMAN_URL: service.url,
      LEDGERMAN_TOKEN: service.token,
    })
    expect(said).toBe('9.00 14.50 true P-107\n')
  })
})
