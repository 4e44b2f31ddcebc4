import { execFile } from 'node:child_process'
import { readdirSync, readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { problemCatalogue, REVIEW_RULES } from '@ledgerman/contract'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Every block marked `console` in the docs is run, a page at a time on a fresh demo, and has to print what stands there.
// LEDGERMAN_REFRESH_DOCS=1 writes what is printed into the pages instead.
const ROOT = join(import.meta.dirname, '../../../..')
const PAGES = [
  'README.md',
  ...readdirSync(join(ROOT, 'docs'))
    .filter((name) => name.endsWith('.md'))
    .map((name) => `docs/${name}`),
]
const isRefresh = process.env['LEDGERMAN_REFRESH_DOCS'] === '1'
const BLOCK = /(?<=^```console\n)[\s\S]*?(?=^```$)/gm
const pagesWithExamples = PAGES.filter((page) => readFileSync(join(ROOT, page), 'utf8').match(BLOCK) !== null)

describe('the examples in the docs', () => {
  let service: RunningService
  beforeEach(async () => {
    service = await startTestService()
  })
  afterEach(() => service.stop())

  it.each(pagesWithExamples)(
    'of %s print what they say',
    async (page) => {
      const path = join(ROOT, page)
      const text = readFileSync(path, 'utf8')
      const printed: string[] = []
      for (const block of text.match(BLOCK) ?? []) {
        const commands = block.split('\n').filter((line) => line.startsWith('$ '))
        const outputs: string[] = []
        for (const command of commands) outputs.push(`${command}\n${await run(command.slice(2), service)}`)
        printed.push(outputs.join(''))
      }
      let at = 0
      if (isRefresh)
        writeFileSync(
          path,
          text.replace(BLOCK, () => printed[at++] ?? ''),
        )
      else expect(printed.map(withoutMoments)).toEqual((text.match(BLOCK) ?? []).map(withoutMoments))
    },
    300_000,
  )
})

describe('the page of refusals', () => {
  it('has a section for every code, with its status and exit code', () => {
    const page = readFileSync(join(ROOT, 'docs/refusals.md'), 'utf8')
    for (const [code, { status, exit }] of Object.entries(problemCatalogue)) {
      expect(page).toContain(`## ${code}\n\nStatus ${status}, exit ${exit}.`)
    }
    expect(
      [...page.matchAll(/^## (.*)$/gm)].map(([, code]) => code).filter((code) => !(code! in problemCatalogue)),
    ).toEqual([])
  })
})

describe('the page of review rules', () => {
  it('has a section for every rule', () => {
    const page = readFileSync(join(ROOT, 'docs/review-rules.md'), 'utf8')
    expect([...page.matchAll(/^## (.*)$/gm)].map(([, rule]) => rule)).toEqual([...REVIEW_RULES])
  })
})

function run(command: string, { url, token, observatory }: RunningService): Promise<string> {
  const env = {
    PATH: `${join(ROOT, 'node_modules/.bin')}:${process.env['PATH']}`,
    NO_COLOR: '1',
    LEDGERMAN_URL: url,
    LEDGERMAN_TOKEN: token,
    // Of the pages on what somebody does past Ledgerman.
    OWNER_URL: observatory.ownerUrl,
  }
  return new Promise((resolve) => {
    execFile('bash', ['-c', `{ ${command}\n} 2>&1`], { env, cwd: ROOT }, (_error, out) =>
      resolve(out === '' || out.endsWith('\n') ? out : `${out}\n`),
    )
  })
}

/** Ids, instants, durations and what moves with them differ from one run to the next. */
function withoutMoments(text: string): string {
  return (
    text
      .replace(/[0-9a-f]{8}(-[0-9a-f]{4}){3}-[0-9a-f]{12}/g, 'ID')
      // A long line's moments may have their beginning cut off: `…1-26T11:11:40Z`.
      .replace(/(\d{4}-\d{2}-|…[\d-]*)\d{2}[T ]\d{2}:\d{2}(:\d{2}(\.\d+)?)?Z?/g, 'INSTANT')
      // A line of a table by months.
      .replace(/^\d{4}-\d{2}(?= )/gm, 'MONTH')
      .replace(/\d+(\.\d+)? ms/g, 'N ms')
      .replace(/ in \d+\.\d s:/g, ' in N s:')
      // Who waits in line is told how long that was.
      .replace(/granted within \d+(\.\d+)? s/g, 'granted within N s')
      .replace(/\blgr_[\w-]+/g, 'TOKEN')
      .replace(/--after [\w-]{20,}/g, '--after CURSOR')
      .replace(/\b[0-9a-f]{64}\b/g, 'HASH')
      .replace(/[A-Za-z0-9+/]{86}==/g, 'SIGNATURE')
      .replace(/\d+(\.\d+)? ([KM]i)?B\b/g, 'N B')
      .replace(/"durationMs": ?[\d.]+/g, '"durationMs": N')
      .replace(/\bs\d{3,}\b/g, 'STAMP')
      .replace(/ +/g, ' ')
      .replace(/ $/gm, '')
  )
}
