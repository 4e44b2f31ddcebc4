import fc from 'fast-check'
import { holdsFor } from '../../../../testing/generated.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'
import { jobEnds } from '../job-ends.js'

// Changes and removals by condition of every mixture, held against what the same statements by hand do to a copy; and all of it is put back.
const ROUNDS = Number(process.env['LEDGERMAN_TEST_JOBS'] ?? 12)
const GUARDS = {
  piece: 'by: version, property: rowVersion',
  stamped: 'by: rowStamp',
  unguarded: 'by: none',
  triggered: 'by: version, property: rowVersion',
  parted: 'by: version, property: rowVersion',
  seen: 'by: version, property: rowVersion',
  family: 'by: version, property: rowVersion',
  generated: 'by: version, property: rowVersion',
  bumped: 'by: version, property: rowVersion, bumpedBy: database',
  valued: 'by: values, of: [note, amount]',
}
type Relation = keyof typeof GUARDS
const RELATIONS = Object.keys(GUARDS) as Relation[]

/** A condition as a caller says it, and as it is said by hand. */
const CONDITIONS: [string, string][] = [
  ['amount > 10', 'amount > 10'],
  ["kind = 'dome' and note is not null", `kind = 'dome' and note is not null`],
  ['note is null', 'note is null'],
  ["not (note = 'n3')", `not (note = 'n3')`],
  ['no in (1, 3)', 'no in (1, 3)'],
  ["site like 'a%' or amount between 12 and 14", `site like 'a%' or amount between 12 and 14`],
  ["keeper.name = 'Ada'", `owner in (select id from keeper_of where name = 'Ada')`],
  [
    'keeper.name is null and no > 1',
    `(owner is null or owner in (select id from keeper_of where name is null)) and no > 1`,
  ],
  ['exists(likes where no > 2)', `exists (select from likes_of l where l.site = t.site and l.no > 2)`],
  ["doc ->> 'a' = '1'", `doc ->> 'a' = '1'`],
  ['amount > 100', 'amount > 100'],
  ['amount is not null or true', 'true'],
]
/** A new value as a caller says it, and by hand. */
const VALUES = {
  note: [null, 'n3', '', 'ü "x"'],
  amount: ['10.00', '0.00', '-1.00', '500.00'],
  kind: ['mast', null],
  tags: [[], ['a,b', 'null'], null],
  doc: [{ a: 1 }, null, [1, 'x']],
} as const
const COMPUTES: [keyof typeof VALUES | 'code', string, string][] = [
  ['amount', 'amount + 1', 'amount + 1'],
  ['amount', 'amount - 13', 'amount - 13'],
  ['amount', 'no * 1.5', 'no * 1.5'],
  ['note', "upper(coalesce(note, 'none'))", "upper(coalesce(note, 'none'))"],
  ['note', 'keeper.name', '(select name from keeper_of k where k.id = t.owner)'],
  ['note', 'nullif(note, site)', 'nullif(note, site)'],
  ['code', "code || '!'", "code || '!'"],
]
const work = fc
  .record({
    relation: fc.constantFrom(...RELATIONS),
    condition: fc.constantFrom(...CONDITIONS),
    values: fc.record(
      Object.fromEntries(Object.entries(VALUES).map(([name, all]) => [name, fc.constantFrom<unknown>(...all)])),
      { requiredKeys: [] },
    ),
    computes: fc.uniqueArray(fc.constantFrom(...COMPUTES), { selector: ([name]) => name, maxLength: 2 }),
    isRemove: fc.boolean(),
    isRehearsed: fc.boolean(),
    images: fc.constantFrom('full' as const, 'changed' as const, 'none' as const),
    /** By how much the number that is stated is off. */
    off: fc.constantFrom(0, 0, 0, 1),
  })
  .filter(({ isRemove, values, computes }) => isRemove || computes.length + Object.keys(values).length > 0)
type Work = typeof work extends fc.Arbitrary<infer W> ? W : never

let service: RunningService
const { run, putBack } = jobEnds(() => service)
const sql = (text: string, values?: unknown[]) => service.observatory.sql(text, values)
beforeAll(async () => {
  service = await startTestService()
  const columns = `site text, no integer, note text, amount numeric(6,2) constraint small check (amount < 500), kind text, tags text[], doc jsonb,
    owner integer, code text, row_version integer not null default 1, primary key (site, no)`
  await sql(`create table keeper_of (id integer primary key, name text); insert into keeper_of values (1, 'Ada'), (2, null);
    create table likes_of (id integer primary key, site text, no integer); insert into likes_of values (1, 'a', 3), (2, 'b', 1);
    create table copy_of (${columns}); alter table copy_of drop constraint copy_of_pkey;
    create table piece (${columns}); create table stamped (${columns}); create table unguarded (${columns});
    create table triggered (${columns}); create function leave() returns trigger language plpgsql as $$ begin return new; end $$;
    create trigger leave before update on triggered for each row execute function leave();
    create table parted (${columns}) partition by list (site);
    create table parted_a partition of parted for values in ('a', 'ü '); create table parted_rest partition of parted default;
    create table seen_base (${columns}); create view seen as select * from seen_base where site <> 'hidden';
    create table family (${columns}); create table family_child (extra integer) inherits (family); alter table family_child add primary key (site, no);
    create table generated (${columns}, twice numeric generated always as (amount * 2) stored);
    create table bumped (${columns}); create function bump() returns trigger language plpgsql as $$ begin new.row_version := old.row_version + 1; return new; end $$;
    create trigger bump before update on bumped for each row execute function bump();
    create table valued (${columns});
    grant all on all tables in schema public to ledgerman_worker`)
  const publish = (name: string, source: string) =>
    service.client.target('observatory').publishMapping(name, `mapping: ${name}\ntable: public.${name}\n${source}`)
  await publish(
    'keeper_of',
    'key: [id]\nguard: { by: rowStamp }\nproperties: { id: { column: id }, name: { column: name } }',
  )
  await publish(
    'likes_of',
    'key: [id]\nguard: { by: rowStamp }\nproperties: { id: { column: id }, site: { column: site }, no: { column: no } }',
  )
  for (const relation of RELATIONS)
    await publish(
      relation,
      `key: [site, no]
guard: { ${GUARDS[relation]} }
properties: { site: { column: site }, no: { column: no }, note: { column: note }, amount: { column: amount }, kind: { column: kind }, tags: { column: tags }, doc: { column: doc }, owner: { column: owner }, code: { column: code }, rowVersion: { column: row_version } }
links: { keeper: { mapping: keeper_of, on: { owner: id } }, likes: { mapping: likes_of, many: { site: site } } }
rules: [{ that: 'amount >= 0 or amount is null', otherwise: Never below zero. }]`,
    )
})
afterAll(() => service.stop())

async function refill(relation: Relation): Promise<void> {
  const base = relation === 'seen' ? 'seen_base' : relation
  const rows = (
    from: number,
    to: number,
  ) => `select s, n, case when n <> 2 then 'n' || n end, 10 + n, case when n % 2 = 0 then 'dome' end, '{x}', jsonb_build_object('a', n), nullif(n, 4) % 3, s || n, 5
    from unnest(array['a', 'b', 'ü ']) s, generate_series(${from}, ${to}) n`
  const columns = '(site, no, note, amount, kind, tags, doc, owner, code, row_version)'
  await sql(`truncate ${base}, copy_of; insert into ${base} ${columns} ${rows(1, 4)}; ${relation === 'family' ? `insert into family_child ${columns} ${rows(5, 6)};` : ''}
    update ${base} set owner = null where owner = 0; insert into copy_of select ${columns.slice(1, -1)} from ${base}`)
}
const LISTED = 'site, no, note, amount::text, kind, tags, doc, owner, code, row_version'
const pieces = (relation: string) => sql(`select ${LISTED} from ${relation} order by site, no`)

const TYPES = { note: 'text', amount: 'numeric(6,2)', kind: 'text', tags: 'text[]', doc: 'jsonb', code: 'text' }

/** The values that are given, and not computed. */
const givenIn = ({ values, computes }: Work) =>
  Object.entries(values).filter(([name]) => !computes.some(([computed]) => computed === name))

/** The same by hand, on the copy: what it comes to, or why it may not be. */
async function byHand(each: Work) {
  const {
    condition: [, where],
    computes,
    isRemove,
    relation,
  } = each
  const [found] = await sql(`select count(*)::int as matched from copy_of t where ${where}`)
  const matched = found?.['matched'] as number
  if (isRemove) {
    await sql(`delete from copy_of t where ${where}`)
    return { matched, changed: matched, refused: null }
  }
  const given = givenIn(each)
  const binds = given.map(([name, value]) => (name === 'doc' && value !== null ? JSON.stringify(value) : value))
  const typed = (name: string, by: string): [string, string] => [name, `(${by})::${TYPES[name as keyof typeof TYPES]}`]
  const news = [
    ...given.map(([name], at) => typed(name, `$${at + 1}`)),
    ...computes.map(([name, , by]) => typed(name, by)),
  ]
  const differs = `(${where}) and (${news.map(([name, by]) => `t.${name} is distinct from ${by}`).join(' or ')})`
  const amount = news.find(([name]) => name === 'amount')?.[1] ?? 'amount'
  const [counted] = await sql(
    `select count(*)::int as changed, coalesce(bool_or(${amount} < 0), false) as negative, coalesce(bool_or(${amount} >= 500), false) as large from copy_of t where ${differs}`,
    binds,
  )
  const { changed, negative, large } = counted as { changed: number; negative: boolean; large: boolean }
  if (negative || large) return { matched, changed, refused: negative ? 'rule-broken' : 'constraint-broken' }
  const version = GUARDS[relation].startsWith('by: version') ? ', row_version = row_version + 1' : ''
  await sql(
    `update copy_of t set ${news.map(([name, by]) => `${name} = ${by}`).join(', ')}${version} where ${differs}`,
    binds,
  )
  return { matched, changed, refused: null }
}

function bodyOf(each: Work) {
  const { relation, condition, computes, isRemove, images } = each
  const values = Object.fromEntries(givenIn(each))
  const compute = Object.fromEntries(computes.map(([name, by]) => [name, by]))
  const change = {
    ...(Object.keys(values).length > 0 ? { values } : {}),
    ...(computes.length > 0 ? { compute } : {}),
  }
  return { mapping: relation, where: condition[0], everyRow: true, images, ...(isRemove ? { remove: true } : change) }
}

async function check(each: Work): Promise<void> {
  const { relation, isRehearsed, images, off } = each
  await refill(relation)
  const before = await pieces(relation)
  const [moment] = await sql('select clock_timestamp()::text as now')
  const { matched, changed, refused } = await byHand(each)
  const body = bodyOf(each)
  const tried = isRehearsed ? await run({ ...body, mode: 'rehearse' }) : null
  expect(await pieces(relation)).toEqual(before)
  const isCounted = !tried?.rehearsal
  const job = await run({
    ...body,
    mode: 'commit',
    ...(isCounted ? { expect: matched + off } : { rehearsal: tried.rehearsal }),
  })
  const code = isCounted && off !== 0 ? 'count-mismatch' : refused
  expect([job.state, job.problem?.code ?? null]).toEqual([code === null ? 'done' : 'failed', code])
  expect(await pieces(relation)).toEqual(code === null ? await pieces('copy_of') : before)
  if (tried) {
    expect([tried.state, tried.problem?.code ?? null]).toEqual([refused === null ? 'done' : 'failed', refused])
    if (refused === null) expect(tried.report).toEqual(job.report)
  }
  if (code !== null) return
  expect(job.report).toMatchObject({ matched, changed, same: matched - changed, refused: 0 })
  expect(job.report?.rows).toHaveLength(changed)
  if (images === 'none' || changed === 0) return
  const [kept] = await sql(`select count(*)::int as n from ledgerman.history where id = $1`, [job.entries[0]])
  expect(kept).toEqual({ n: changed })
  await putBack(moment?.['now'] as string)
  const isLike = (piece: Record<string, unknown>) => ({ ...piece, row_version: expect.any(Number) as number })
  expect(await pieces(relation)).toEqual(before.map(isLike))
}

it('does what the same statement does by hand, and puts it back', async () => {
  await holdsFor(ROUNDS, fc.asyncProperty(work, check))
})
