import { countsOf as counts, sendSteps } from '../../../../testing/sent-steps.js'
import { jobEnds } from '../job-ends.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// What a step may write beside what it names: the record that is there already, and rows of other tables.
let service: RunningService
const jobs = jobEnds(() => service)
const sql = (text: string) => service.observatory.sql(text)
const rehearse = sendSteps(() => service, 'rehearse')
const commit = sendSteps(() => service, 'commit')

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

describe('steps', () => {
  it('that add or change tell which they did, leave what is so already, and are put back', async () => {
    const put = (name: string, code = 'PUT') => [
      { add: 'telescope', as: 'dome', values: { code, name, apertureM: '1.00' }, onExisting: 'change' },
      { require: `dome.name = '${name}'` },
    ]
    const added = await commit(put('First'))
    expect([counts(added.body.steps)[0], added.body.steps[0].rows[0].before]).toEqual([[1, 1], null])
    const same = await commit(put('First'))
    expect([same.body.outcome, counts(same.body.steps)[0]]).toEqual(['committed', [1, 0]])
    const changed = await commit(put('Second'))
    expect([counts(changed.body.steps)[0], changed.body.reversible]).toEqual([[1, 1], 'yes'])
    expect(changed.body.steps[0].rows).toMatchObject([
      { key: { code: 'PUT' }, before: { name: 'First' }, after: { name: 'Second' } },
    ])
    const of = service.client.target('observatory')
    const { history } = await of.history('telescope', ['PUT'])
    expect(history.map(({ kind, entry }) => [kind, entry])).toEqual([
      ['changed', changed.body.id],
      ['added', added.body.id],
    ])
    await of.reverse(changed.body.id as string, { mode: 'commit' })
    expect(await sql(`select name from telescope where code = 'PUT'`)).toEqual([{ name: 'First' }])
    await of.remove('telescope', ['PUT'], { mode: 'commit', guard: '*' })

    // What was kept can be read by later steps, and changed.
    const kept = await commit([
      { add: 'telescope', as: 'dome', values: { code: 'HF1', name: 'Other', apertureM: '9.00' }, onExisting: 'keep' },
      { require: `dome.name <> 'Other' and changed(dome) = 0` },
      { change: 'dome', compute: { name: "dome.name || '!'" } },
      { change: 'dome', compute: { name: 'dome.name' }, guard: 'any' },
    ])
    expect([kept.body.outcome, counts(kept.body.steps)]).toEqual([
      'committed',
      [[0, 0], expect.anything(), [1, 1], [1, 1]],
    ])

    // Whoever comes second changes what the first added; nobody is refused, and nobody says to have added it too.
    const all = await Promise.all(Array.from({ length: 12 }, (_, at) => commit(put(`Name ${at}`, 'RACE'))))
    expect(all.map(({ body }) => body.outcome)).toEqual(all.map(() => 'committed'))
    const before = all.map(({ body }) => body.steps[0].rows[0].before?.name ?? null) as (string | null)[]
    expect(before.filter((name) => name === null)).toHaveLength(1)
    const [{ name: last }] = (await sql(`select name from telescope where code = 'RACE'`)) as [{ name: string }]
    expect([...before.filter((name) => name !== null), last].sort()).toEqual(all.map((_, at) => `Name ${at}`).sort())
    await sql(`delete from telescope where code = 'RACE'`)
  })

  it('count in a rehearsal what triggers and foreign keys write with them, and name those in a commit', async () => {
    await sql(`create table rack (code text primary key, place text, inside text references rack on delete cascade);
      create table lens (id int primary key, rack text not null references rack on delete cascade, spare boolean);
      create table lens_log (what text); grant all on rack, lens, lens_log to ledgerman_worker;
      insert into rack values ('R1', 'a', null), ('R2', 'a', null), ('R3', 'a', 'R2'); insert into lens select n, 'R' || n % 2 + 1, false from generate_series(1, 7) n;
      create function log_lens() returns trigger language plpgsql as $$ begin insert into lens_log values (tg_op); return null; end $$;
      create trigger log_lens after delete on lens for each row execute function log_lens()`)
    const of = service.client.target('observatory')
    for (const name of ['rack', 'lens'])
      await of.publishMapping(name, JSON.stringify((await of.deriveMapping('public', name)).definition))
    const alone = await rehearse([{ remove: 'rack', key: { code: "'R1'" } }])
    const all = [
      { table: 'public.lens', added: 0, changed: 0, removed: 3 },
      { table: 'public.lens_log', added: 3, changed: 0, removed: 0 },
    ]
    expect([alone.body.writtenWithIt, alone.body.notShown]).toEqual([all, undefined])
    const keyed = await of.remove('rack', ['R1'], { mode: 'rehearse', guard: '*' })
    expect([keyed.receipt.writtenWithIt, keyed.receipt.notShown]).toEqual([all, undefined])
    // Rows of the table itself that went with it are none that the run was to remove.
    const within = await rehearse([
      { change: 'rack', key: { code: "'R1'" }, values: { place: 'b' } },
      { remove: 'rack', key: { code: "'R2'" } },
    ])
    expect([within.body.writtenWithIt, within.body.notShown]).toEqual([
      [
        { table: 'public.rack', added: 0, changed: 0, removed: 1 },
        { table: 'public.lens', added: 0, changed: 0, removed: 4 },
        { table: 'public.lens_log', added: 4, changed: 0, removed: 0 },
      ],
      undefined,
    ])
    const many = { mapping: 'rack', where: "inside is null and code < 'R2'", remove: true, expect: 1 }
    expect((await jobs.run({ mode: 'rehearse', ...many })).report).toMatchObject({ changed: 1, writtenWithIt: all })
    const file = await jobs.run(
      'code,place\nR1,c\n',
      { mode: 'rehearse', mapping: 'rack' },
      { 'content-type': 'text/csv' },
    )
    expect([file.report?.changed, file.report?.writtenWithIt, file.report?.notShown]).toEqual([1, undefined, undefined])
    const nothing = await rehearse([{ change: 'rack', key: { code: "'R1'" }, values: { place: 'b' } }])
    expect([nothing.body.writtenWithIt, nothing.body.notShown]).toEqual([undefined, undefined])
    const { receipt } = await of.remove('rack', ['R1'], { mode: 'commit', guard: '*' })
    expect([receipt.writtenWithIt, receipt.notShown, receipt.reversible]).toEqual([
      undefined,
      [
        'rack: rows of public.lens that may have been removed or changed with it (foreign key lens_rack_fkey).',
        expect.any(String),
      ],
      'partly',
    ])
    const { report } = await jobs.run({ mode: 'commit', ...many, where: "inside is null and code <= 'R2'" })
    expect([report?.writtenWithIt, report?.notShown?.[0]]).toEqual([
      undefined,
      expect.stringMatching(/^rack: rows of public\.lens that may have been removed/),
    ])
    await sql('drop table lens, rack, lens_log; drop function log_lens')
  })
})
