import { jobEnds } from '../job-ends.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Tables and types are altered while the service runs: what it said of them a moment ago is nobody's refusal.
let service: RunningService
const sql = (text: string) => service.observatory.sql(text)
const target = () => service.client.target('observatory')

const SHUTTER = `mapping: shutter
table: public.shutter
key: [id]
guard: { by: none }
properties: { id: { column: id, fixed: true }, state: { column: state }, opening: { column: opening }, note: { column: note } }
finds:
  inState: { params: { state: { type: public.shutter_state } }, where: "state = :state" }
`
const MOTOR = `mapping: motor
table: public.motor
key: [id]
guard: { by: none }
properties: { id: { column: id, fixed: true }, shutterId: { column: shutter_id }, isOn: { column: is_on } }
links: { shutter: { mapping: shutter, on: { shutterId: id } } }
finds:
  ofOpen: { where: "shutter.opening > 0" }
`
const STATE = `transaction: set-state
params: { state: { type: public.shutter_state } }
steps: [{ change: shutter, key: { id: "1" }, compute: { state: ":state" } }]
`
const START = `transaction: start-motors
steps: [{ change: motor, where: "shutter.opening < 90", values: { isOn: true }, expect: any }]
`
const NO_TABLE = /mapping motor does not fit\. table: There is no table/
const publish = (...sources: string[]) =>
  target().publish(sources.map((source, at) => ({ file: `${at}.yaml`, source })))
const setState = (state: string) => target().run({ mode: 'commit', transaction: 'set-state', params: { state } })
const start = () => target().run({ mode: 'rehearse', transaction: 'start-motors', params: {} })
const changed = (values: Record<string, string | number>) => target().change('shutter', ['1'], values, {})

beforeAll(async () => {
  service = await startTestService()
  await sql(`create type shutter_state as enum ('shut', 'open');
    create table shutter (id integer primary key, state shutter_state not null, opening smallint not null default 0, note varchar(5));
    create table motor (id integer primary key, shutter_id integer not null references shutter, is_on boolean not null default false);
    insert into shutter (id, state, opening) values (1, 'shut', 0), (2, 'open', 99); insert into motor (id, shutter_id) values (1, 1), (2, 2);
    grant all on shutter, motor to public`)
  await publish(SHUTTER, MOTOR, STATE, START)
  await setState('open')
  await start()
  expect((await target().find('motor', { find: 'ofOpen' })).found).toHaveLength(1)
})
afterAll(() => service.stop())

describe('what was altered a moment ago', () => {
  it('is taken as it is now: labels of an enum, the length of a text, the type of a column', async () => {
    await expect(setState('ajar')).rejects.toMatchObject({ code: 'value-invalid' })
    await expect(target().find('shutter', { find: 'inState', bind: { state: 'ajar' } })).rejects.toMatchObject({
      code: 'value-invalid',
    })
    await sql(`alter type shutter_state add value 'ajar'`)
    // What describes it, and code that is written, knows of the label too.
    const choices = (await target().mapping('shutter')).properties?.find(({ name }) => name === 'state')?.choices
    expect(choices).toEqual(['shut', 'open', 'ajar'])
    expect((await target().code({ mappings: ['shutter'] })).map(({ text }) => text).join()).toMatch(
      /'shut' \| 'open' \| 'ajar'/,
    )
    expect((await setState('ajar')).outcome).toBe('committed')
    expect((await target().find('shutter', { find: 'inState', bind: { state: 'ajar' } })).found).toHaveLength(1)
    await expect(changed({ state: 'stuck' })).rejects.toMatchObject({ code: 'value-invalid' })
    await sql(`alter type shutter_state add value 'stuck'`)
    expect((await changed({ state: 'stuck' })).record).toMatchObject({ state: 'stuck' })
    await sql(`alter type shutter_state add value 'iced'`)
    const query = { mode: 'commit', mapping: 'shutter' }
    const job = await jobEnds(() => service).run('id,state\n1,iced\n', query, { 'content-type': 'text/csv' })
    expect(job.report).toMatchObject({ changed: 1, refused: 0 })
    await expect(changed({ note: 'too long' })).rejects.toMatchObject({ code: 'value-invalid' })
    await sql('alter table shutter alter note type text')
    expect((await changed({ note: 'too long' })).record).toMatchObject({ note: 'too long' })
    await sql('alter table shutter alter opening type integer')
    expect((await changed({ opening: 70_000 })).record).toMatchObject({ opening: 70_000 })
    await changed({ opening: 10 })
    await sql('alter table shutter alter opening type numeric(7, 2)')
    expect((await changed({ opening: 11 })).record).toMatchObject({ opening: '11.00' })
    // What was refused for what was no longer so is no refusal that anybody looks for in the book.
    const { entries } = await target().entries({ limit: 50 })
    expect(entries.filter(({ outcome }) => outcome === 'refused')).toEqual([])
  })

  it('and lies behind a link is found where it stands now, once its mapping says so', async () => {
    expect((await start()).steps[0]).toMatchObject({ matched: 1 })
    await sql('alter table shutter rename opening to opened_by')
    expect((await target().mapping('shutter')).drift).toMatch(/no column opening/)
    expect((await target().transaction('start-motors')).drift).toMatch(/no column opening/)
    await expect(start()).rejects.toMatchObject({
      code: 'definition-invalid',
      detail: expect.stringMatching(/shutter has no column opening/) as unknown,
    })
    await publish(SHUTTER.replace('column: opening', 'column: opened_by'))
    expect((await start()).steps[0]).toMatchObject({ matched: 1 })
    expect((await target().find('motor', { find: 'ofOpen' })).found).toHaveLength(2)
  })

  it('and is nowhere is told as a mapping that does not fit, until it is back', async () => {
    await sql('alter table motor rename to engine')
    const gone = { code: 'definition-invalid', detail: expect.stringMatching(NO_TABLE) as unknown }
    await expect(target().load('motor', ['1'])).rejects.toMatchObject(gone)
    await expect(start()).rejects.toMatchObject(gone)
    expect((await target().mapping('motor')).drift).toMatch(NO_TABLE)
    await sql('alter table engine rename to motor')
    expect((await target().change('motor', ['1'], { isOn: true }, {})).receipt.outcome).toBe('committed')
    // Not by what was known before it went, nor by what was said of it while it was away.
    await sql('alter table motor rename to engine')
    await expect(target().change('motor', ['1'], { isOn: false }, {})).rejects.toMatchObject(gone)
    await sql('alter table engine rename to motor')
  })

  it('shows how many rows its table has now', async () => {
    const rowsOf = async () => (await target().tables()).find(({ name }) => name === 'motor')?.approximateRows
    await sql('analyze motor')
    expect(await rowsOf()).toBe(2)
    await sql('insert into motor (id, shutter_id) values (3, 1); analyze motor')
    expect(await rowsOf()).toBe(3)
  })
})

describe('a mapping that others lead to', () => {
  it('is not published where a transaction, or another’s find, would no longer fit', async () => {
    const less = SHUTTER.replace(/, opening: \{ column: \w+ \}/, '')
    const refused = (await publish(less).catch((error: unknown) => error)) as { findings: { message: string }[] }
    expect(refused).toMatchObject({ code: 'definition-invalid' })
    expect(refused.findings.map(({ message }) => message)).toEqual([
      expect.stringMatching(/^the transaction start-motors uses it and would no longer fit: steps\.1.*opening/),
      expect.stringMatching(/^the mapping motor uses it and would no longer fit: finds\.ofOpen.*opening/),
    ])
    const published = await publish(
      less,
      MOTOR.replace(/finds:[^]*/, ''),
      START.replace('shutter.opening < 90', 'not isOn'),
    )
    expect(published.definitions).toHaveLength(3)
  })
})
