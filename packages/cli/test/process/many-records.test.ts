import { writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { openCommandLine, type CommandLine } from '../cli-process.js'

let line: CommandLine
let run: CommandLine['run']
const sql = (text: string) => line.service.observatory.sql(text)

beforeAll(async () => {
  line = await openCommandLine()
  run = line.run
})
afterAll(() => line.close())

/** A file beside the test. */
function file(name: string, text: string): string {
  const path = join(line.folder, name)
  writeFileSync(path, text)
  return path
}

describe('many records', () => {
  it('that match are rehearsed as a job, and committed with the token it prints', async () => {
    const change = [
      'change',
      'exposure',
      '--where',
      'accepted = false',
      '--compute',
      'seconds=seconds + 1',
      '--images',
      'changed',
    ]
    const rehearsed = await run(change)
    expect(rehearsed.out).toMatch(
      /^rehearsed, rolled back: matched (\d+), changed \1\n\nid +seconds\n1 +[\d.]+ → [\d.]+\n/,
    )
    const [token = ''] = /lgr_[\w-]+/.exec(rehearsed.out) ?? []
    expect((await run([...change, '--commit'])).exit).toBe(2)
    const committed = await run([...change, '--rehearsal', token])
    expect([committed.exit, committed.out]).toEqual([
      0,
      expect.stringMatching(/^committed: matched[\s\S]*Entry [0-9a-f-]{36}/),
    ])
    // The way to all rows stands there, and leads to them.
    const [, way = ''] = /; all: ledgerman (.*)/.exec(committed.out) ?? []
    const [, changed] = /changed (\d+)/.exec(committed.out) ?? []
    const rows = (await run(way.split(' '))).out.trimEnd().split('\r\n')
    expect([rows[0], rows.length]).toEqual([
      'step,kind,mapping,key.id,before.seconds,after.seconds',
      1 + Number(changed),
    ])
    const stale = await run([...change, '--rehearsal', token])
    expect([stale.exit, stale.err]).toEqual([5, expect.stringMatching(/^rehearsal-stale: /)])
    // A condition that many rows match is a job without being told to be one.
    const long = await line.json<{ kind: string; report: { changed: number } }>([
      'change',
      'exposure',
      '--where',
      'accepted',
      '--compute',
      'seconds=seconds + 1',
    ])
    expect([long.kind, long.report.changed > 100_000]).toEqual(['filter', true])
    expect((await run(['jobs', 'list', '--state', 'failed'])).out).toMatch(
      /failed +exposure accepted = false +\d+ +0 +rehearsal-stale/,
    )
  })

  it('in a file are applied by key, in chunks where one row is wrong, and what is wrong comes back', async () => {
    const good = file('good.csv', 'code,hoursLeft\nP-101,1.25\nP-102,2.25\n')
    expect((await run(['change', 'programme', '--from', good, '--commit'])).out).toMatch(
      /^committed: matched 2, changed 2\n/,
    )
    expect(await sql(`select hours_left::text from programme where code = 'P-102'`)).toEqual([{ hours_left: '2.25' }])
    const wrong = file('wrong.ndjson', '{"code":"P-101","hoursLeft":"1.50"}\n{"code":"P-999","hoursLeft":2}\n')
    const whole = await run(['change', 'programme', '--from', wrong, '--commit'])
    expect([whole.exit, whole.out, whole.err]).toEqual([
      3,
      expect.stringMatching(/2 +P-999 +There is no such programme\./),
      expect.stringMatching(/^no-such-record: line 2 \(P-999\)/),
    ])
    const job = await line.json<{ id: string; report: { changed: number } }>([
      'change',
      'programme',
      '--from',
      wrong,
      '--chunk',
      '1',
      '--commit',
    ])
    expect(job.report.changed).toBe(1)
    expect((await run(['jobs', 'failed-rows', job.id])).out).toBe(
      '{"code":"P-999","hoursLeft":"2","reason":"There is no such programme."}\n',
    )
    expect((await run(['jobs', 'resume', job.id])).exit).toBe(1)
    expect((await run(['jobs', 'show', job.id])).out).toMatch(/^committed: matched 1, changed 1, 1 not found/)
  })

  it('are exported with their guards, edited and sent back', async () => {
    const { out } = await run([
      'find',
      'observer',
      "familyName = 'Okafor'",
      '--properties',
      'badgeNo,active',
      '--all',
      '--csv',
      '--with-guard',
    ])
    expect(out).toMatch(/^badgeNo,active,guard\r\nB-\d+,true,v1\r\n/)
    const edited = file('observers.csv', out.replaceAll(',true,', ',false,'))
    expect((await run(['change', 'observer', '--from', edited, '--guard', 'guard', '--commit'])).exit).toBe(0)
    const again = await run(['change', 'observer', '--from', edited, '--guard', 'guard', '--commit'])
    expect([again.exit, again.err]).toEqual([5, expect.stringMatching(/changed since its guard was read/)])
  })

  it('that are all there are need a flag that says so', async () => {
    const { exit, err } = await run(['change', 'programme', '--where', 'hoursLeft >= 0', 'priority=1'])
    expect([exit, err]).toEqual([4, expect.stringContaining('add --every-row')])
  })

  it('refuse what cannot apply, before anything is sent', async () => {
    const good = file('good.csv', 'code,hoursLeft\nP-101,1.25\n')
    for (const words of [
      ['change', 'programme', 'P-101', 'hoursLeft=1', '--chunk', '5'],
      ['change', 'programme', '--from', good, '--where', 'hoursLeft > 1'],
      ['change', 'programme', '--from', good, 'hoursLeft=1'],
      ['change', 'programme', '--from', join(line.folder, 'nowhere.csv')],
      ['change', 'programme', '--from', good, '--chunk', '0'],
      ['change', 'programme', '--where', 'hoursLeft > 1', 'priority=1', '--images', 'changed', '--if', 'v1'],
      ['remove', 'programme', 'P-101', '--images', 'none'],
      ['find', 'programme', '--with-guard'],
    ])
      expect([words.join(' '), (await run(words)).exit]).toEqual([words.join(' '), 2])
    expect(await sql('select count(*)::int as n from programme where row_version > 3')).toEqual([{ n: 0 }])
  })
})
