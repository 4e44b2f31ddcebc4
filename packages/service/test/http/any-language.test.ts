import { execFile, spawnSync } from 'node:child_process'
import { mkdtempSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// The same program in other languages, each with its own HTTP client, where the machine has the language.
const EXAMPLES = join(import.meta.dirname, '../../../../examples/any-language')
let service: RunningService
let dir: string
beforeAll(async () => {
  service = await startTestService()
  dir = mkdtempSync(join(tmpdir(), 'ledgerman-languages-'))
})
afterAll(async () => {
  rmSync(dir, { recursive: true, force: true })
  await service.stop()
})

const has = (command: string, word: string) => spawnSync(command, [word]).status === 0
const LANGUAGES = [
  { name: 'Python', isThere: has('python3', '--version'), run: ['python3', 'desk.py'] },
  { name: 'PHP', isThere: has('php', '--version'), run: ['php', 'desk.php'] },
  { name: 'Java', isThere: has('javac', '-version'), run: ['java', 'Desk.java'] },
  { name: 'Go', isThere: has('go', 'version'), run: ['go', 'run', 'desk.go'] },
]

describe('plain HTTP', () => {
  for (const { name, isThere, run } of LANGUAGES)
    (isThere ? it : it.skip)(
      `serves a program in ${name}`,
      async () => {
        await service.observatory.sql(
          `update programme set hours_left = 18.50, row_version = row_version + 1 where code = 'P-107'`,
        )
        const [command = '', ...words] = run
        const env = {
          ...process.env,
          NODE_OPTIONS: '',
          GOCACHE: join(dir, 'go'),
          LEDGERMAN_URL: service.url,
          LEDGERMAN_TOKEN: service.token,
        }
        const { stdout } = await promisify(execFile)(command, words, { cwd: EXAMPLES, env })
        expect(stdout.replace(/guard v\d+/g, 'guard').split('\n')).toEqual([
          'P-107 has 18.50 hours left, guard',
          'changed: guard',
          'conflict: yours 12.00, current 14.50',
          'moved 4 hours',
          'the same run again: nothing was done twice',
          '',
        ])
      },
      90_000,
    )
})
