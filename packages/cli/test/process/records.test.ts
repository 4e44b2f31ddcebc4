import { openCommandLine, type CommandLine } from '../cli-process.js'

let line: CommandLine
let run: CommandLine['run']
const sql = (text: string) => line.service.observatory.sql(text)

beforeAll(async () => {
  line = await openCommandLine()
  run = line.run
})
afterAll(() => line.close())

describe('a record', () => {
  it('is added, replaced and removed, each only when told to commit', async () => {
    const dome = ['telescope', 'code=HF3', 'name=Harrow = Three', 'apertureM=3.60']
    expect((await run(['add', ...dome])).out).toMatch(/rolled back[\s\S]*status +→ +operational/)
    expect(await sql(`select code from telescope where code = 'HF3'`)).toEqual([])
    expect((await run(['add', ...dome, '--commit'])).out).toMatch(/^committed[\s\S]*Entry \S+, guard now v1/)
    const again = await run(['add', ...dome, '--commit'])
    expect([again.exit, again.err]).toEqual([6, expect.stringMatching(/Another telescope already has this code/)])

    const part = await run(['replace', 'telescope', 'HF3', 'name=H3'])
    expect([part.exit, part.err]).toEqual([2, expect.stringMatching(/apertureM, status would have been lost/)])
    const whole = ['replace', 'telescope', 'HF3', 'name=H3', 'apertureM=3.5', 'status=retired']
    expect((await run([...whole, '--if', 'v7', '--commit'])).exit).toBe(5)
    expect((await run([...whole, '--if', 'v1', '--commit'])).out).toMatch(/name +Harrow = Three +→ +H3/)
    expect(await sql(`select name, aperture_m::text, status from telescope where code = 'HF3'`)).toEqual([
      { name: 'H3', aperture_m: '3.50', status: 'retired' },
    ])

    expect((await run(['remove', 'telescope', 'HF3', '--if', 'v1', '--commit'])).exit).toBe(5)
    expect((await run(['remove', 'telescope', 'HF3'])).out).toMatch(/To commit it: the same command with --if v2/)
    expect((await run(['remove', 'telescope', 'HF3', '--commit'])).exit).toBe(0)
    expect((await run(['remove', 'telescope', 'HF3', '--commit'])).exit).toBe(3)
    const referred = await run(['remove', 'programme', 'P-107', '--commit'])
    expect([referred.exit, referred.err]).toEqual([6, expect.stringMatching(/public\.block still refer/)])
  })

  it('takes null, keys of several parts, and another unique key', async () => {
    const calibration = ['calibration', 'HF1', '2026-02-03', 'flat']
    const changed = await run(['change', ...calibration, 'frames=12', '--null', 'note', '--commit'])
    expect(changed.out).toMatch(/^committed: expected one, matched 1, changed 1/)
    expect((await line.json<{ record: object }>(['load', ...calibration])).record).toMatchObject({
      frames: 12,
      note: null,
    })
    const [{ email } = {}] = await sql(`select email from observer where badge_no = 'B-002'`)
    expect((await run(['load', 'observer', '--by', 'email', String(email)])).out).toMatch(/badgeNo +B-002/)
    expect((await run(['load', 'observer', '--by', 'familyName', 'Okafor'])).exit).toBe(2)
    expect((await run(['load', 'programme', 'P-107', '--explain'])).out).toMatch(
      /where t\.code = \$1::text[\s\S]*P-107/,
    )
  })

  it('of a table that was altered is told with the mapping that does not fit', async () => {
    await sql('alter table telescope rename aperture_m to aperture')
    const loaded = await run(['load', 'telescope', 'HF1'])
    expect([loaded.exit, loaded.err]).toEqual([
      2,
      expect.stringMatching(
        /^definition-invalid: telescope does not fit\nproperties\.apertureM\.column: .*no column aperture_m/,
      ),
    ])
    const changed = await run(['change', 'telescope', 'HF1', 'name=One'])
    expect([changed.exit, changed.err]).toEqual([
      2,
      expect.stringMatching(/definition-invalid: .*no column aperture_m/),
    ])
    await sql('alter table telescope rename aperture to aperture_m')
    expect((await run(['load', 'telescope', 'HF1'])).exit).toBe(0)
  })

  it('is refused options that say nothing of it', async () => {
    for (const words of [
      ['add', 'telescope', 'code=X', '--if', 'v1'],
      ['remove', 'telescope', 'HF1', '--null', 'name'],
      ['load', 'telescope', 'HF1', '--commit'],
    ])
      expect(await run(words)).toMatchObject({ exit: 2, err: expect.stringMatching(/unknown option/) as string })
    // Nobody takes a target for the limit of a token that has none.
    for (const words of [
      ['tokens', 'add', 'desk', 'writer'],
      ['tokens', 'list'],
      ['targets'],
      ['login', line.service.url],
      ['review', '.', '--offline'],
    ])
      expect(await run([...words, '--target', 'observatory'])).toMatchObject({
        exit: 2,
        err: expect.stringMatching(/^request-invalid: --target says nothing here/) as string,
      })
    // Of two values one would be dropped, and half of a condition with it.
    for (const [words, reason] of [
      ['change telescope --where true --where false name=x --expect any', /--where .* is given twice/],
      ['run move-hours from=P-107 from=P-108 to=P-112 hours=1', /from is given twice/],
      ['find programme code=:c --param c=1 --param :c=2', /c is given twice/],
      ['find programme --csv --json', /--csv says nothing here/],
      ['find programme --all --limit 3', /--limit says nothing here/],
      ['find programme --explain --count', /--count says nothing here/],
      ['change programme P-107 priority=1 --merge', /--merge says nothing here: no json property/],
      [
        'drill move-hours --example 1 --fault all --isolation all',
        /--isolation says nothing here: it goes with --times or/,
      ],
      ['drill move-hours --example 1 --times 2 --fault all', /--fault says nothing here: a drill is of one kind/],
      ['drill programme P-107 priority=1 --example 1', /--example says nothing here/],
    ] as const)
      expect(await run(words.split(' '))).toMatchObject({ exit: 2, err: expect.stringMatching(reason) as string })
    expect((await run(['tokens', 'list'])).out).not.toMatch(/desk/)
    expect(await run(['jobs', 'list', '--target', 'nowhere'])).toMatchObject({
      exit: 3,
      err: expect.stringMatching(/There is no target nowhere/) as string,
    })
  })
})

describe('a find', () => {
  it('prints a table, CSV, a line each, or one record', async () => {
    const brandts = ['find', 'programme', "lead.familyName ilike 'br%'"]
    const table = await run([...brandts, '--properties', 'code,lead.familyName', '--count', '--limit', '3'])
    const [header, ...rows] = table.out.trimEnd().split('\n')
    expect(header).toMatch(/^code +lead\.familyName$/)
    expect(rows.slice(0, 3).every((row) => row.trimEnd().endsWith('Brandt'))).toBe(true)
    expect(table.out).toMatch(/\d+ in all/)
    const bound = ['find', 'programme', 'hoursLeft < :h and semester = :s', '--bind', 's=2026A', '--bind', 'h=5']
    const csv = await run([...bound, '--order', 'hoursLeft desc, code', '--properties', 'code,hoursLeft', '--csv'])
    expect(csv.out.split(/\r?\n/)[0]).toBe('code,hoursLeft')
    const left = csv.out
      .trimEnd()
      .split(/\r?\n/)
      .slice(1)
      .map((each) => Number(each.split(',')[1]))
    expect(left).toEqual([...left].sort((one, other) => other - one))
    const lines = (await run([...bound, '--all', '--ndjson'])).out.trimEnd().split('\n')
    expect(lines.map((each) => (JSON.parse(each) as { semester: string }).semester)).toEqual(left.map(() => '2026A'))
    expect((await run(['find', 'programme', "code = 'P-107'", '--expect', 'one'])).out).toMatch(/^property +value/)
    const twins = await sql(`select given_name, family_name from observer group by 1, 2 having count(*) > 1`)
    const name = `givenName = '${String(twins[0]?.['given_name'])}' and familyName = '${String(twins[0]?.['family_name'])}'`
    const ambiguous = await run(['find', 'observer', name, '--expect', 'one'])
    expect([ambiguous.exit, ambiguous.err]).toEqual([4, expect.stringMatching(/record-ambiguous[\s\S]*badgeNo/)])
  })

  it.each([
    [['hoursLef < 5'], /Unknown name hoursLef at character 1\. Did you mean hoursLeft\?\nhoursLef < 5\n\^/],
    [['code = null'], /use is null/],
    [['code = :c'], /:c/],
    [['code = :c', '--bind', 'c'], /expected name=value/],
    [['true', '--limit', '0'], /from 1 to 1000/],
    [['true', '--limit', 'x'], /got "x"/],
    [['true', '--order', 'cod'], /Did you mean code/],
    [['true', '--properties', 'lead.name'], /name is no property of observer/],
    [['true', '--after', 'nowhere'], /after/],
    [['true', '--expect', 'two'], /one/],
  ])('is refused for %j with what to do', async (words, message) => {
    const { exit, err } = await run(['find', 'programme', ...words])
    expect([exit, err]).toEqual([2, expect.stringMatching(message)])
  })
})

describe('the book', () => {
  it('is listed by who, what and when, and shows each step of a run', async () => {
    const desk = await line.json<{ token: string }>(['tokens', 'add', 'desk', 'writer'])
    const asDesk = { LEDGERMAN_URL: line.service.url, LEDGERMAN_TOKEN: desk.token }
    expect(
      (await run(['run', 'move-hours', '--example', '1', '--commit', '--note', 'asked by phone'], asDesk)).exit,
    ).toBe(0)
    expect((await run(['run', 'move-hours', 'from=P-107', 'to=P-112', 'hours=999', '--commit'], asDesk)).exit).toBe(6)
    expect((await run(['change', 'programme', 'P-107', 'title=New', '--commit'], asDesk)).exit).toBe(0)
    expect((await run(['book', 'prepare'], asDesk)).exit).toBe(8)

    const list = (...words: string[]) =>
      line.json<{ entries: { id: string; note: string | null }[]; next: string | null }>(['book', 'list', ...words])
    expect((await list('--actor', 'desk')).entries).toHaveLength(3)
    expect((await list('--actor', 'nobody')).entries).toEqual([])
    expect((await list('--transaction', 'move-hours')).entries).toHaveLength(2)
    expect((await list('--actor', 'desk', '--outcome', 'refused')).entries).toMatchObject([
      { problem: 'rule-broken', kind: 'run', transaction: 'move-hours' },
    ])
    expect((await list('--mapping', 'programme', '--key', 'P-107', '--actor', 'desk')).entries).toHaveLength(2)
    expect((await list('--actor', 'desk', '--until', '2026-01-01')).entries).toEqual([])
    const newest = await list('--limit', '1')
    const next = await list('--limit', '1', '--after', newest.next ?? '')
    expect(next.entries[0]?.id).not.toBe(newest.entries[0]?.id)
    expect((await run(['book', 'list', '--actor', 'desk'])).out).toMatch(
      /rule-broken +run move-hours +0 +0[\s\S]*committed +run move-hours +2 +2/,
    )
    const [entry] = (await list('--transaction', 'move-hours', '--outcome', 'committed')).entries
    const shown = (await run(['book', 'show', entry?.id ?? ''])).out
    expect(shown).toMatch(/transaction +move-hours, revision 1/)
    expect(shown).toMatch(/note +asked by phone/)
    expect(shown).toMatch(/Step 4, change programme[\s\S]*hoursLeft +18\.50 +→ +14\.50/)
    const wrong = [
      ['--limit', '0'],
      ['--from', 'yesterday'],
      ['--outcome', 'maybe'],
      ['--key', 'P-107'],
    ].map((words) => run(['book', 'list', ...words]))
    expect((await Promise.all(wrong)).map(({ exit }) => exit)).toEqual([2, 2, 2, 2])
    expect((await run(['book', 'show', 'nope'])).exit).toBe(3)

    const { tokens } = await line.json<{ tokens: { id: string; name: string }[] }>(['tokens', 'list'])
    expect((await run(['tokens', 'revoke', tokens.find(({ name }) => name === 'desk')?.id ?? ''])).exit).toBe(0)
    expect((await run(['targets'], asDesk)).exit).toBe(8)
  })
})
