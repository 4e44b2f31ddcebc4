import { execFile, spawnSync } from 'node:child_process'
import { mkdtempSync, readFileSync, rmSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { problemCatalogue, type ProblemCode } from '@ledgerman/contract'
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

/** Whether a command is there, and says yes to this. */
const has = (command: string, ...words: string[]) => spawnSync(command, words).status === 0
const LANGUAGES = [
  { name: 'Python', isThere: has('python3', '--version'), run: ['python3', 'desk.py'] },
  { name: 'PHP', isThere: has('php', '--version'), run: ['php', 'desk.php'] },
  { name: 'Java', isThere: has('javac', '-version'), run: ['java', 'Desk.java'] },
  { name: 'Go', isThere: has('go', 'version'), run: ['go', 'run', 'desk.go'] },
]

it('is answered with the statuses that the page lists', () => {
  const page = readFileSync(join(EXAMPLES, '../../docs/any-language.md'), 'utf8')
  const rows = [...page.matchAll(/^\| ([\d, ]+) \| ((?:`[a-z-]+`(?:, )?)+) \|/gm)]
  for (const [, statuses = '', codes = ''] of rows) {
    const told = codes.match(/[a-z-]+/g)?.map((code) => problemCatalogue[code as ProblemCode].status) ?? []
    expect([...new Set(told)].join(', ')).toBe(statuses)
  }
  expect(rows.length).toBeGreaterThan(8)
})

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

const BY_HAND = join(EXAMPLES, '../by-hand')
const DRIVERS = [
  {
    name: 'Python',
    isThere: has('/usr/bin/python3', '-c', 'import psycopg2'),
    run: ['/usr/bin/python3', 'change.py'],
    style: 'percent',
  },
  {
    name: 'PHP',
    isThere: has('php', '-r', 'exit(extension_loaded("pdo_pgsql") ? 0 : 1);'),
    run: ['php', 'change.php'],
    style: 'question',
  },
]

describe('a statement in the placeholders of another driver', () => {
  for (const { name, isThere, run, style } of DRIVERS)
    (isThere ? it : it.skip)(`does by hand in ${name} what it is shown to do`, async () => {
      const { body } = await service.request(
        'PATCH',
        `/v1/targets/observatory/mappings/programme/records/P-120?mode=rehearse&style=${style}`,
        { body: { hoursLeft: '14.50' }, headers: { 'if-match': '*', 'content-type': 'application/merge-patch+json' } },
      )
      const [command = '', file = ''] = run
      const shown = (body.receipt as { steps: { short: { statement: string } }[] }).steps[0]?.short.statement
      expect(readFileSync(join(BY_HAND, file), 'utf8')).toContain(shown)
      const change = async (code: string, hours: string, version: number) => {
        const env = { ...process.env, DATABASE_URL: service.observatory.ownerUrl }
        const { stdout } = await promisify(execFile)(command, [file, code, hours, String(version)], {
          cwd: BY_HAND,
          env,
        })
        return stdout.trim()
      }
      const [{ version = 0 } = {}] = await service.observatory.sql(
        `select row_version as version from programme where code = 'P-120'`,
      )
      const from = Number(version)
      expect(await change('P-120', '11.50', from)).toBe(`changed: version ${from + 1}`)
      expect(await change('P-120', '12.50', from)).toBe(`changed meanwhile: version ${from + 1}, 11.50 hours`)
      expect(await change('P-999', '12.50', from)).toBe('there is no programme P-999')
    })
})
