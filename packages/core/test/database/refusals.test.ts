import { setTimeout as delay } from 'node:timers/promises'
import { isProblem, mappingDefinition, type LedgermanProblem } from '@ledgerman/contract'
import {
  addRecord,
  changeRecord,
  deriveMapping,
  listEntries,
  loadRecord,
  parseKeyParts,
  prepareBook,
  resolvePlan,
  removeRecord,
  replaceRecord,
  resolveMapping,
  runPlan,
  Target,
  type Mapping,
} from '@ledgerman/core'
import { makeDatabase, type TestDatabase } from '../../../../testing/databases.js'

let database: TestDatabase
let target: Target
const commit = { mode: 'commit', actor: 'night-desk' } as const
const SECRET = 'plainly-secret-word'

beforeAll(async () => {
  database = await makeDatabase()
  await database.sql(`
    create domain dial as text check (value ~ '^[0-9]+$');
    create domain north_dial as dial not null check (value like '1%');
    create table mount (dial north_dial primary key, others dial[], next north_dial default '1');
    insert into mount values ('1', null, '1');
    create table antenna (id integer primary key, note text, dial dial, nights daterange, exclude using gist (nights with &&) where (nights is not null));
    insert into antenna values (1, 'one', '12', '[2026-01-01,2026-01-05)'), (2, 'two', null, null), (3, 'slow', null, null);
    create function mind() returns trigger language plpgsql as $$ begin
      if new.note = 'sleep' then perform pg_sleep(5); end if;
      if new.note = 'never' then raise exception 'An antenna is never called that.'; end if;
      if new.note = 'far' then raise exception 'It is too far away.' using errcode = '23514', constraint = 'near', hint = 'Ask for a closer one.'; end if;
      if new.note = 'zero' then new.note := 1 / (new.id - new.id); end if;
      return new;
    end $$;
    create trigger mind before update on antenna for each row execute function mind();
    create table parent (id integer primary key);
    create table child (id integer primary key, parent integer references parent (id) deferrable initially deferred);
    insert into child values (1, null);
    create table person (badge text primary key, phone text not null check (length(phone) < 40), note text);
    insert into person values ('B1', '${SECRET}', 'x');
    create function say() returns trigger language plpgsql as $$ begin
      if new.note = 'raise' then raise exception 'The phone % of % is odd.', new.phone, new.badge using detail = new.phone, hint = old.phone; end if;
      if new.note = 'other' then raise exception using message = 'Odd: ' || new.phone, errcode = '23514'; end if;
      return new;
    end $$;
    create trigger say before update on person for each row execute function say();
    grant all on all tables in schema public to ledgerman_worker`)
  target = new Target({
    name: 'refusals',
    url: database.url,
    limits: { lockWaitMs: 300, timeLimitMs: 1_500 },
    digestKey: Buffer.from('k'),
  })
  await prepareBook(target)
})
afterAll(async () => {
  await target.close()
  await database.drop()
})

async function mapped(table: string, sensitive: string[] = [], schema = 'public'): Promise<Mapping> {
  const live = await target.table(`${schema}.${table}`)
  const { definition } = deriveMapping(live, () => undefined)
  for (const name of sensitive)
    definition.properties[name] = { ...definition.properties[name], column: name, sensitive: true }
  return resolveMapping(mappingDefinition.parse(definition), 1, live)
}
const refusalOf = (run: Promise<unknown>): Promise<LedgermanProblem> =>
  run.then(
    () => Promise.reject(new Error('was not refused')),
    (error: unknown) => (isProblem(error) ? error : Promise.reject(error)),
  )
const change = async (id: string, values: Record<string, unknown>) => {
  const mapping = await mapped('antenna')
  return changeRecord(target, mapping, { key: parseKeyParts(mapping, [id]), values, guard: 'any', ...commit })
}

describe('what the database refuses', () => {
  it('within the time limit', async () => {
    const started = Date.now()
    expect(await refusalOf(change('3', { note: 'sleep' }))).toMatchObject({
      code: 'time-limit',
      facts: { timeLimitMs: 1_500 },
    })
    expect(Date.now() - started).toBeLessThan(4_000)
  })

  it('but not within the target’s limit where a plan has a longer one', async () => {
    const steps = [{ sql: 'select pg_sleep(2.5)' }]
    const plan = (timeLimit: string) =>
      resolvePlan(target, { params: {}, steps, timeLimit }, null, null, () => mapped('antenna'))
    const { receipt } = await runPlan(target, await plan('9s'), { ...commit, params: {} })
    expect(receipt).toMatchObject({ outcome: 'committed' })
    const refused = await refusalOf(runPlan(target, await plan('1600ms'), { ...commit, params: {} }))
    expect(refused).toMatchObject({ code: 'time-limit', facts: { timeLimitMs: 1_600 } })
  })

  it('because somebody cancelled it', async () => {
    const patient = new Target({
      name: 'patient',
      url: database.url,
      limits: { timeLimitMs: 20_000 },
      digestKey: Buffer.from('k'),
    })
    const mapping = resolveMapping((await mapped('antenna')).definition, 1, await patient.table('public.antenna'))
    const waiting = refusalOf(
      changeRecord(patient, mapping, {
        key: parseKeyParts(mapping, ['3']),
        values: { note: 'sleep' },
        guard: 'any',
        ...commit,
      }),
    )
    const sleeping = `from pg_stat_activity where wait_event = 'PgSleep' and datname = current_database()`
    while ((await database.sql(`select 1 ${sleeping}`)).length === 0) await delay(10)
    await database.sql(`select pg_cancel_backend(pid) ${sleeping}`)
    expect((await waiting).code).toBe('cancelled')
    await patient.close()
  })

  it('by a trigger, in the trigger’s own words', async () => {
    expect(await refusalOf(change('2', { note: 'never' }))).toMatchObject({
      code: 'rule-broken',
      detail: expect.stringMatching(/never called that/) as unknown,
      facts: { by: 'database' },
    })
  })

  it('by a trigger that stands for a constraint, or fails, in words that are not of another kind', async () => {
    expect(await refusalOf(change('2', { note: 'far' }))).toMatchObject({
      code: 'constraint-broken',
      detail: 'The database refuses the antenna: It is too far away (near) (hint: Ask for a closer one.).',
      facts: { kind: 'check', constraint: 'near' },
    })
    expect(await refusalOf(change('2', { note: 'zero' }))).toMatchObject({
      code: 'value-invalid',
      detail: 'antenna: a function of the database fails: division by zero.',
    })
  })

  it('because a name that is a value names nothing, which is not that the mapping has drifted', async () => {
    await database.sql(`create table pointer (id integer primary key, at regclass, by regprocedure, in_type regtype); insert into pointer values (1);
      grant all on pointer to ledgerman_worker`)
    const mapping = await mapped('pointer')
    const set = (values: Record<string, string>) =>
      changeRecord(target, mapping, { key: parseKeyParts(mapping, ['1']), values, guard: 'any', ...commit })
    for (const [name, got] of [
      ['at', 'nowhere'],
      ['by', 'nobody()'],
      ['inType', 'nothing'],
    ] as const)
      expect(await refusalOf(set({ [name]: got }))).toMatchObject({
        code: 'value-invalid',
        facts: { properties: [name] },
      })
    expect((await set({ at: 'antenna' })).record).toMatchObject({ at: 'antenna' })
  })

  it('where a step names a record that is not there, by its whole key, whatever its types', async () => {
    await database.sql(`create table dish (site varchar(8), half "char", no numeric(4), mount char(3), tag text, primary key (site, half, no, mount, tag));
      grant all on dish to ledgerman_worker`)
    const dish = await mapped('dish', ['tag'])
    const key = { site: "'fell'", half: "'L'", no: '9', mount: "'alt'", tag: "'hidden'" }
    const plan = await resolvePlan(target, { params: {}, steps: [{ remove: 'dish', key }] }, null, null, () =>
      Promise.resolve(dish),
    )
    expect((await refusalOf(runPlan(target, plan, { ...commit, params: {} }))).detail).toBe(
      'Step 1: there is no dish with site fell, half L, no 9, mount alt, tag ….',
    )
  })

  it('by a domain and by an exclusion, each told apart', async () => {
    expect(await refusalOf(change('2', { dial: 'abc' }))).toMatchObject({
      code: 'constraint-broken',
      facts: { kind: 'domain', properties: ['dial'] },
    })
    // Whichever of them was set, and whether the domain stands below another, or in a list.
    const mount = await mapped('mount')
    const setMount = (values: Record<string, unknown>) =>
      refusalOf(changeRecord(target, mount, { key: parseKeyParts(mount, ['1']), values, guard: 'any', ...commit }))
    expect(await setMount({ others: ['2', 'x'] })).toMatchObject({
      detail: 'others is not allowed by the domain dial (dial_check).',
      facts: { kind: 'domain', properties: ['others'] },
    })
    expect((await setMount({ next: 'x' })).facts).toMatchObject({ properties: ['next'] })
    expect((await setMount({ next: null })).facts).toMatchObject({ kind: 'not-null', properties: ['next'] })
    expect(await refusalOf(change('2', { nights: '[2026-01-03,2026-01-09)' }))).toMatchObject({
      code: 'constraint-broken',
      detail: 'The antenna would conflict with another one in nights (antenna_nights_excl). Choose other values.',
      facts: { kind: 'exclusion', properties: ['nights'] },
    })
  })

  it('for a privilege that the role lacks, with the grants that it needs', async () => {
    await database.sql(`create schema vault; create table vault.lens (id integer primary key, note text); insert into vault.lens values (1, null);
      grant select on vault.lens to ledgerman_worker; revoke all on child from ledgerman_worker`)
    const lens = await mapped('lens', [], 'vault')
    const [key, child] = [parseKeyParts(lens, ['1']), await mapped('child')]
    const changed = () => refusalOf(changeRecord(target, lens, { key, values: { note: 'x' }, guard: 'any', ...commit }))
    expect((await changed()).detail).toMatch(/It needs usage on the schema vault: let its owner grant that/)
    await database.sql('grant usage on schema vault to ledgerman_worker')
    expect((await changed()).detail).toMatch(/It needs select and update on vault\.lens: let its owner grant that/)
    const removed = await refusalOf(removeRecord(target, child, { key, guard: 'any', ...commit }))
    expect(removed.detail).toMatch(/It needs select and delete on public\.child/)
    expect((await refusalOf(loadRecord(target, child, key))).detail).toMatch(/It needs select \(.*\) on public\.child/)
    await database.sql('grant all on child to ledgerman_worker')
  })

  it('only at its end, by a deferred constraint, in a rehearsal as in a commit', async () => {
    const mapping = await mapped('child')
    for (const mode of ['rehearse', 'commit'] as const) {
      const request = {
        key: parseKeyParts(mapping, ['1']),
        values: { parent: 7 },
        guard: 'any',
        mode,
        actor: 'night-desk',
      } as const
      expect(await refusalOf(changeRecord(target, mapping, request))).toMatchObject({
        code: 'constraint-broken',
        facts: { kind: 'missing-parent', properties: ['parent'] },
      })
    }
    expect(await database.sql('select parent from child')).toEqual([{ parent: null }])
    expect(
      await database.sql(`select 1 from ledgerman.history where relation = 'public.child' and outcome = 'committed'`),
    ).toEqual([])
  })

  it('for a table lock that somebody holds, as for a row lock', async () => {
    const holder = await database.session()
    await holder.query('begin; lock table child in access exclusive mode')
    const started = Date.now()
    const live = resolveMapping((await mapped('antenna')).definition, 1, await target.table('public.antenna'))
    expect(live).toBeDefined()
    const child = await mapped('child')
    expect(
      (
        await refusalOf(
          changeRecord(target, child, {
            key: parseKeyParts(child, ['1']),
            values: { parent: null },
            guard: 'any',
            ...commit,
          }),
        )
      ).code,
    ).toBe('lock-timeout')
    expect(Date.now() - started).toBeLessThan(4_000)
    await holder.query('rollback')
    await holder.end()
  })

  it('and leaves the session clean, so that the next run works', async () => {
    for (let turn = 0; turn < 30; turn++) {
      await refusalOf(change('2', { note: 'never' }))
      expect((await change('2', { note: `turn ${turn}` })).receipt.outcome).toBe('committed')
    }
  })
})

describe('sensitive values', () => {
  it('are nowhere in plain text, whatever is done with them and however it is refused', async () => {
    const mapping = await mapped('person', ['phone'])
    const key = parseKeyParts(mapping, ['B1'])
    const loaded = await loadRecord(target, mapping, key)
    expect(loaded.record['phone']).toBe(SECRET)
    const guard = { guards: [loaded.guard ?? ''] }
    const said: unknown[] = []
    const hear = (run: Promise<{ receipt: unknown }>) =>
      run.then(
        ({ receipt }) => said.push(receipt),
        (error: LedgermanProblem) => said.push(error.code, error.detail, error.facts),
      )
    await hear(changeRecord(target, mapping, { key, values: { phone: `${SECRET}-2` }, guard, ...commit }))
    await hear(changeRecord(target, mapping, { key, values: { phone: `${SECRET}-3` }, guard, ...commit }))
    await hear(
      changeRecord(target, mapping, { key, values: { phone: `${SECRET}${'x'.repeat(60)}` }, guard: 'any', ...commit }),
    )
    await hear(changeRecord(target, mapping, { key, values: { phone: [SECRET] }, guard: 'any', ...commit }))
    await hear(
      changeRecord(target, mapping, {
        key,
        values: { note: 'y' },
        loaded: { phone: `${SECRET}-9` },
        guard: 'any',
        ...commit,
      }),
    )
    await hear(
      replaceRecord(target, mapping, { key, values: { phone: `${SECRET}-4`, note: 'z' }, guard: 'any', ...commit }),
    )
    for (const note of ['raise', 'other'])
      await hear(changeRecord(target, mapping, { key, values: { note }, guard: 'any', ...commit }))
    expect(said.slice(-6)).toMatchObject([
      ...['rule-broken', 'The database refuses it: The phone … of … is odd.', { by: 'database' }],
      ...['constraint-broken', expect.stringContaining('left out'), {}],
    ])
    // What a raw statement reads, nobody marked.
    const steps = [{ sql: 'select cast(phone as integer) from person' }]
    const plan = await resolvePlan(target, { params: {}, steps }, null, null, () => Promise.resolve(mapping))
    await expect(runPlan(target, plan, { ...commit, params: {} })).rejects.toMatchObject({ code: 'value-invalid' })
    await hear(addRecord(target, mapping, { values: { badge: 'B2', phone: SECRET }, ...commit }))
    await hear(addRecord(target, mapping, { values: { badge: 'B2', phone: SECRET }, ...commit }))
    await hear(removeRecord(target, mapping, { key: parseKeyParts(mapping, ['B2']), guard: 'any', ...commit }))
    expect(said).toHaveLength(25)
    said.push(
      await database.sql('select * from ledgerman.entry'),
      await listEntries(target, { limit: 100 }, () => Promise.resolve(mapping)),
    )
    const everything = JSON.stringify(said)
    expect(everything).not.toContain(SECRET)
    expect(everything).toContain('hmac:')
    // Equal values have equal digests, on both sides.
    const [entry] = await database.sql(
      `select h.before->>'phone' as phone from ledgerman.history h where h.kind = 'remove' and h.relation = 'public.person'`,
    )
    expect(entry?.['phone']).toMatch(/^hmac:[0-9a-f]{32}$/)
    expect(everything.split(String(entry?.['phone'])).length).toBeGreaterThan(2)
  })
})
