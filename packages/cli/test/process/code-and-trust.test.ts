import { existsSync, mkdirSync, readFileSync, symlinkSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { openCommandLine, type CommandLine } from '../cli-process.js'

// Commands that write, read and judge files, and those that say whether the book can be trusted.
let line: CommandLine
let run: CommandLine['run']
const sql = (text: string) => line.service.observatory.sql(text)
const file = (name: string, text: string) => {
  const path = join(line.folder, name)
  writeFileSync(path, text)
  return path
}

beforeAll(async () => {
  line = await openCommandLine()
  run = line.run
})
afterAll(() => line.close())

describe('emit', () => {
  it('writes what the definitions say, says what is the same, and leaves files of others alone', async () => {
    const dir = join(line.folder, 'data')
    const written = await run(['emit', dir, '--mapping', 'telescope'])
    expect([written.exit, written.out]).toEqual([
      0,
      expect.stringMatching(/written +\S+telescope\.ts[\s\S]+13 files in /),
    ])
    expect((await run(['emit', dir, '--mapping', 'telescope', '--check'])).exit).toBe(0)
    writeFileSync(join(dir, 'own.ts'), 'export const own = 1\n')
    writeFileSync(join(dir, 'support/former.ts'), '// Written by Ledgerman: what it once had.\n')
    mkdirSync(join(dir, 'support/folder.ts'))
    writeFileSync(join(dir, 'telescope.ts'), `${readFileSync(join(dir, 'telescope.ts'), 'utf8')}// changed\n`)
    const differs = await run(['emit', dir, '--mapping', 'programme', '--book', '--check'])
    expect([differs.exit, differs.out]).toEqual([
      1,
      expect.stringMatching(
        /missing +\S+programme\.ts[\s\S]*not needed any more +\S+telescope\.ts[\s\S]*not needed any more +\S+former\.ts/,
      ),
    ])
    await run(['emit', dir, '--mapping', 'programme', '--book'])
    const there = ['telescope.ts', 'support/former.ts', 'own.ts', 'book.ts', 'support/errors.ts']
    expect(there.map((path) => existsSync(join(dir, path)))).toEqual([false, false, true, true, true])
    await run(['emit', dir, '--mapping', 'programme'])
    expect(['book.ts', 'book', 'own.ts', 'support'].map((path) => existsSync(join(dir, path)))).toEqual([
      false,
      false,
      true,
      true,
    ])
    writeFileSync(join(dir, 'programme.ts'), 'mine\n')
    expect(await run(['emit', dir, '--mapping', 'programme'])).toMatchObject({
      exit: 2,
      err: expect.stringMatching(/was not written by Ledgerman/),
    })
  })
})

describe('review', () => {
  const BAD = `export const f = (pool) => pool.query("delete from exposure")\n`

  it('exits by the level that something reaches, with a target or without', async () => {
    const path = file('bad.ts', BAD)
    const found = await run(['review', path])
    expect([found.exit, found.out]).toEqual([6, expect.stringMatching(/error every-row[\s\S]+\^{20,}[\s\S]+1 error/)])
    expect((await run(['review', file('fine.sql', "select code from programme where code = 'P-107';")])).exit).toBe(0)
    const catalogue = join(line.folder, 'tables.json')
    await run(['tables', '--save', catalogue])
    const misspelled = file('misspelled.sql', 'select titel from programme;')
    expect((await run(['review', '--offline', misspelled])).exit).toBe(0)
    expect(await run(['review', '--offline', '--catalogue', catalogue, misspelled])).toMatchObject({
      exit: 6,
      out: expect.stringMatching(/unknown-name +programme has no column titel/),
    })
    const warned = file('warned.sql', "update observer set active = false where family_name = 'X';")
    expect([(await run(['review', warned])).exit, (await run(['review', warned, '--level', 'warning'])).exit]).toEqual([
      0, 6,
    ])
    expect((await run(['review', '--catalogue', catalogue, misspelled])).exit).toBe(2)
    const large = await run([
      'review',
      file('large.sql', `-- ${'x'.repeat(100_000)}\n`.repeat(12) + 'select titel from programme;'),
    ])
    expect([large.exit, large.err]).toEqual([6, expect.stringMatching(/large\.sql: larger than the service takes/)])
    expect(large.out).toMatch(/Did you mean/)
    expect((await run(['review', join(line.folder, 'nowhere')])).exit).toBe(2)
  })

  it('leaves out what a baseline knows, prints SARIF, and goes round no circle', async () => {
    const dir = join(line.folder, 'source')
    mkdirSync(join(dir, 'node_modules'), { recursive: true })
    writeFileSync(join(dir, 'bad.ts'), BAD)
    writeFileSync(join(dir, 'node_modules/theirs.ts'), BAD)
    writeFileSync(join(dir, 'binary.py'), Buffer.from([0, 1, 2]))
    symlinkSync(dir, join(dir, 'again'))
    const baseline = join(line.folder, 'baseline.txt')
    const kept = await run(['review', dir, '--baseline', baseline, '--write-baseline'])
    expect([kept.exit, kept.err]).toEqual([0, expect.stringMatching(/not read: \S+binary\.py: it is no text/)])
    writeFileSync(join(dir, 'bad.ts'), `// moved\n${BAD}`)
    expect((await run(['review', dir, '--baseline', baseline])).exit).toBe(0)
    writeFileSync(join(dir, 'bad.ts'), BAD + BAD.replace('exposure', 'block'))
    const more = await run(['review', dir, '--baseline', baseline, '--sarif'])
    const sarif = JSON.parse(more.out) as {
      runs: { results: { ruleId: string; locations: { physicalLocation: { region: { startLine: number } } }[] }[] }[]
    }
    expect(
      sarif.runs[0]?.results.map(({ ruleId, locations }) => [ruleId, locations[0]?.physicalLocation.region.startLine]),
    ).toEqual([['every-row', 2]])
  })

  it('adopts the statements of a function, which then run as a transaction', async () => {
    const dir = join(line.folder, 'adopted')
    const path = file(
      'desk.js',
      `async function retireObserver(pool, badge, version) {\n  const { rowCount } = await pool.query('update observer set active = false, row_version = row_version + 1 where badge_no = $1 and row_version = $2', [badge, version])\n  return rowCount\n}\n`,
    )
    const adopted = await run(['review', path, '--adopt', dir])
    expect([adopted.exit, adopted.out]).toEqual([0, expect.stringMatching(/^fits +\S+retire-observer\.yaml/)])
    expect(readFileSync(join(dir, 'retire-observer.yaml'), 'utf8')).toMatch(/change: observer/)
    await run(['publish', dir])
    const rehearsed = await run(['run', 'retire-observer', 'badge=B-001', 'version=v1'])
    expect(rehearsed.out).toMatch(/active +true +→ +false/)
    const other = file(
      'column.js',
      'const set = (pool, column, badge) => pool.query(`update observer set ${column} = null where badge_no = $1`, [badge])',
    )
    expect(await run(['review', other, '--adopt', dir])).toMatchObject({
      exit: 6,
      out: expect.stringMatching(/^does not fit +\S+set\.yaml[\s\S]*write which one in place of ledgerman_value/),
    })
  })
})

describe('the book', () => {
  it('is sealed, verified against what was kept elsewhere, and found out', async () => {
    await run(['change', 'telescope', 'HF1', 'name=One', '--commit'])
    const sealed = await run(['book', 'seal', '--json'])
    const kept = file('seal.json', sealed.out)
    expect(await run(['book', 'verify', '--seal', kept])).toMatchObject({
      exit: 0,
      out: expect.stringMatching(/^nothing was altered: 1 entry compared/),
    })
    await sql(`update ledgerman.entry set actor = 'nobody'`)
    expect(await run(['book', 'verify'])).toMatchObject({
      exit: 1,
      out: expect.stringMatching(/altered +It, its images or its statements/),
    })
    expect(await run(['book', 'verify', '--seal', file('none.json', '{}')])).toMatchObject({ exit: 2 })
    expect(await run(['book', 'prune', '--older-than', 'soon'])).toMatchObject({ exit: 2 })
    expect(await run(['book', 'export', '--json'])).toMatchObject({ exit: 2 })
    expect((await run(['book', 'export', '--csv'])).out).toMatch(/^entry,at,actor,/)
  })
})
