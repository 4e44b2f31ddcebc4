import { openCommandLine, type CommandLine } from '../cli-process.js'

// Commands that are sent again, and what is asked of the book by time, page and part.
let line: CommandLine
let run: CommandLine['run']
const sql = (text: string) => line.service.observatory.sql(text)

beforeAll(async () => {
  line = await openCommandLine()
  run = line.run
})
afterAll(() => line.close())

interface Told {
  receipt?: { id: string; replayed: boolean }
  id?: string
  replayed?: boolean
}

const receiptOf = ({ receipt, id, replayed }: Told) => receipt ?? { id, replayed }

describe('a command with an idempotency key, sent again as it was,', () => {
  const add = ['add', 'telescope', 'code=TWICE', 'name=Twice', 'apertureM=1.5']
  it.each([
    ['adds', add],
    ['changes', ['change', 'telescope', 'TWICE', 'name=Changed']],
    ['computes', ['change', 'telescope', 'TWICE', '--compute', 'apertureM = apertureM + 1']],
    ['replaces', ['replace', 'telescope', 'TWICE', 'name=Whole', 'apertureM=3', 'status=retired']],
    [
      'changes what matches',
      ['change', 'telescope', '--where', "code = 'TWICE'", '--compute', "name=name || '!'", '--expect', '1'],
    ],
    ['removes', ['remove', 'telescope', 'TWICE']],
  ])('%s once, and says that it did', async (what, words) => {
    const once = [...words, '--commit', '--idempotency-key', what]
    const [first, again] = [await line.json<Told>(once), await line.json<Told>(once)]
    expect(receiptOf(first)).toMatchObject({ replayed: false })
    expect(receiptOf(again)).toMatchObject({ id: receiptOf(first).id, replayed: true })
    expect((await run(once)).out).toMatch(/^committed before, with the same idempotency key; nothing was done now/)
  })

  it('is refused where it asks something else, and where there is nothing to remove that it did not remove', async () => {
    const other = await run([
      ...add.slice(0, 3),
      'name=Other',
      'apertureM=1.5',
      '--commit',
      '--idempotency-key',
      'adds',
    ])
    expect([other.exit, other.err]).toEqual([1, expect.stringMatching(/^idempotency-key-reused: /)])
    const gone = await run(['remove', 'telescope', 'TWICE', '--commit', '--idempotency-key', 'removes it'])
    expect([gone.exit, gone.err]).toEqual([
      3,
      expect.stringMatching(/^no-such-record: There is no telescope with code TWICE/),
    ])
    const rehearsed = await run(['remove', 'telescope', 'HF1', '--idempotency-key', 'x'])
    expect([rehearsed.exit, rehearsed.err]).toEqual([2, expect.stringMatching(/a rehearsal leaves nothing behind/)])
  })
})

describe('the book', () => {
  let since: string

  beforeAll(async () => {
    since = new Date().toISOString()
    for (const name of ['One', 'Two', 'Three'])
      await run(['change', 'telescope', 'HF1', `name=${name}`, '--commit', '--note', name])
    await run(['change', 'programme', 'P-101', 'priority=5', '--commit'])
    await run(['run', 'move-hours', 'from=P-103', 'to=P-104', 'hours=1', '--commit'])
  })

  it('is listed by time, page by page', async () => {
    const list = (...words: string[]) =>
      line.json<{ entries: { id: string }[]; next: string | null }>(['book', 'list', ...words])
    const all = (await list('--from', since)).entries.map(({ id }) => id)
    expect(all).toHaveLength(5)
    const first = await list('--from', since, '--limit', '2')
    const second = await list('--from', since, '--limit', '3', '--after', first.next ?? '')
    expect([...first.entries, ...second.entries].map(({ id }) => id)).toEqual(all)
    expect((await list('--from', since, '--until', since)).entries).toEqual([])
    for (const wrong of [
      ['--after', 'x'],
      ['--from', 'yesterday'],
      ['--limit', '0'],
    ])
      expect((await run(['book', 'list', ...wrong])).exit).toBe(2)
  })

  it('tells of one record by time and page', async () => {
    const told = (await run(['book', 'history', 'telescope', 'HF1', '--from', since, '--limit', '1'])).out
    expect(told).toMatch(/name +Two +→ +Three/)
    const after = /--after (\d+)/.exec(told)?.[1] ?? ''
    expect(
      (await run(['book', 'history', 'telescope', 'HF1', '--from', since, '--limit', '1', '--after', after])).out,
    ).toMatch(/name +One +→ +Two/)
    expect((await run(['book', 'history', 'telescope', 'HF1', '--after', 'x'])).exit).toBe(2)
  })

  it('is exported in part, as its columns say', async () => {
    const lines = async (...words: string[]) =>
      (await run(['book', 'export', '--from', since, ...words])).out
        .trim()
        .split('\n')
        .map((text) => JSON.parse(text) as Record<string, unknown>)
    expect((await lines('--mapping', 'telescope')).map(({ note }) => note)).toEqual(['One', 'Two', 'Three'])
    expect((await lines('--transaction', 'move-hours')).map(({ kind, transaction }) => [kind, transaction])).toEqual([
      ['change', 'move-hours'],
      ['change', 'move-hours'],
    ])
    expect(await lines('--mapping', 'programme', '--key', 'P-101')).toMatchObject([
      { key: { code: 'P-101' }, after: { priority: '5' } },
    ])
    expect((await run(['book', 'export', '--actor', 'nobody'])).out).toBe('')
    expect((await run(['book', 'export', '--key', 'P-101'])).exit).toBe(2)
  })

  it('puts back what a part of it did since, and leaves the rest', async () => {
    const nobody = await run(['book', 'reverse', '--since', since, '--actor', 'nobody'])
    expect([nobody.exit, nobody.err]).toEqual([
      1,
      expect.stringMatching(/^not-reversible: Nothing was changed since then/),
    ])
    const moved = await run([
      'book',
      'reverse',
      '--since',
      since,
      '--transaction',
      'move-hours',
      '--commit',
      '--note',
      'back',
    ])
    expect(moved.out).toMatch(/^committed: reversal of 1 entry/)
    const names = await run(['book', 'reverse', '--since', since, '--mapping', 'telescope', '--commit'])
    expect(names.out).toMatch(/^committed: reversal of 3 entries/)
    expect(await sql(`select name from telescope where code = 'HF1'`)).toEqual([{ name: 'Harrow One' }])
    expect(await sql(`select priority from programme where code = 'P-101'`)).toEqual([{ priority: 5 }])
    const [last] = (await line.json<{ entries: { id: string }[] }>(['book', 'list', '--limit', '1'])).entries
    expect((await run(['book', 'show', last?.id ?? '', '--full'])).out).toMatch(
      /^puts back +[0-9a-f-]{36}, [0-9a-f-]{36}, [0-9a-f-]{36}$/m,
    )
  })
})
