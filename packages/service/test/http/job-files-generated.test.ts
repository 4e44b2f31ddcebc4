import fc from 'fast-check'
import type { Job } from '@ledgerman/contract'
import { holdsFor } from '../../../../testing/generated.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'
import { jobEnds } from '../job-ends.js'

// Files of corrections of every mixture, held against what each of their lines has to come to; and all of it is put back.
const ROUNDS = Number(process.env['LEDGERMAN_TEST_FILES'] ?? 12)
const RELATIONS = ['piece', 'triggered', 'parted', 'seen'] as const
const SITES = ['a', 'B,c', 'd"e', 'ü ']
/** The codes of other records, and an owner that is not there. */
const [TAKEN, NOBODY] = ['taken', 9]

interface Piece {
  site: string
  no: number
  note: string | null
  amount: string
  kind: string | null
  tags: string[] | null
  doc: unknown
  owner: number | null
  code: string | null
  row_version: number
}
type Values = Omit<Piece, 'site' | 'no' | 'row_version'>
type Line = Pick<Piece, 'site' | 'no'> & { guard: string; values: Partial<Values> }

const awkward = fc.constantFrom('', 'null', ' x ', 'line\nbreak', '"', '\\N', '\\', ',', '\t', '\r\n', "'", '🪐')
const values: fc.Arbitrary<Values> = fc.record({
  note: fc.option(awkward),
  amount: fc.constantFrom('0.00', '0.10', '12.50', '499.99', '-0.01', '500.00'),
  kind: fc.option(fc.constantFrom('dome', 'mast')),
  tags: fc.option(fc.array(fc.constantFrom('x', '', 'null', 'a,b', '"', '{}'), { maxLength: 3 })),
  doc: fc.option(fc.constantFrom<unknown>({ a: 1 }, [], [null], 'text', 0, true, { a: { b: ['x', null] } })),
  owner: fc.option(fc.constantFrom(1, 2, NOBODY)),
  code: fc.constantFrom(TAKEN, 'free'),
})
const line = fc.record({
  site: fc.constantFrom(...SITES, 'nowhere'),
  no: fc.constantFrom(1, 2, 3, 4, 7),
  guard: fc.constantFrom('v5', 'v5', 'v5', 'v4'),
  values,
})
const file = fc.record({
  relation: fc.constantFrom(...RELATIONS),
  columns: fc.subarray(['note', 'amount', 'kind', 'tags', 'doc', 'owner', 'code'] as const, { minLength: 1 }),
  lines: fc.array(line, { minLength: 1, maxLength: 12 }),
  form: fc.constantFrom('csv', 'ndjson'),
  isGuarded: fc.boolean(),
  isRehearsed: fc.boolean(),
  chunk: fc.option(fc.constantFrom('1', '2', '5', '100')),
  onMissing: fc.constantFrom('refuse', 'add'),
  images: fc.constantFrom('full', 'changed'),
})
type File = typeof file extends fc.Arbitrary<infer F> ? F : never

let service: RunningService
const { run, putBack } = jobEnds(() => service)
const sql = (text: string) => service.observatory.sql(text)
beforeAll(async () => {
  service = await startTestService()
  const columns = `site text, no integer, note text, amount numeric(6,2) not null default 0 constraint small check (amount < 500), kind kind_of_piece, tags text[], doc jsonb,
    owner integer references owner_of, row_version integer not null default 1, primary key (site, no)`
  await sql(`create type kind_of_piece as enum ('dome', 'mast'); create table owner_of (id integer primary key); insert into owner_of values (1), (2);
    create table piece (${columns}, code text unique);
    create table triggered (${columns}, code text unique); create function leave() returns trigger language plpgsql as $$ begin return new; end $$;
    create trigger leave before update on triggered for each row execute function leave();
    create table parted (${columns}, code text constraint not_taken check (code <> '${TAKEN}')) partition by list (site);
    create table parted_a partition of parted for values in ('a', 'ü '); create table parted_rest partition of parted default;
    create table seen_base (${columns}, code text unique); create view seen as select * from seen_base where site <> 'hidden';
    grant all on ${RELATIONS.join(', ')}, owner_of to ledgerman_worker`)
  for (const relation of RELATIONS)
    await service.client.target('observatory').publishMapping(
      relation,
      `mapping: ${relation}
table: public.${relation}
key: [site, no]
guard: { by: version, property: rowVersion }
properties: { site: { column: site }, no: { column: no }, note: { column: note }, amount: { column: amount }, kind: { column: kind }, tags: { column: tags }, doc: { column: doc }, owner: { column: owner }, code: { column: code }, rowVersion: { column: row_version } }
rules: [{ that: 'amount >= 0', otherwise: Never below zero. }]`,
    )
})
afterAll(() => service.stop())

/** Sixteen pieces, and one that has the code that is taken. */
async function refill(relation: string): Promise<void> {
  const base = relation === 'seen' ? 'seen_base' : relation
  await sql(`truncate ${base}; insert into ${base} (site, no, note, amount, kind, tags, doc, owner, code, row_version)
    select s, n, 'note', 10, 'dome', '{x}', '{"a": 1}', 1, s || n, 5 from unnest(array['a', 'B,c', 'd"e', 'ü ']) s, generate_series(1, 4) n`)
  if (relation !== 'parted') await sql(`insert into ${base} (site, no, code) values ('other', 1, '${TAKEN}')`)
}
const pieces = async (relation: string) =>
  (await sql(
    `select site, no, note, amount::text, kind, tags, doc, owner, code, row_version from ${relation} where site <> 'other' order by site, no`,
  )) as unknown as Piece[]

const keyOf = ({ site, no }: Pick<Piece, 'site' | 'no'>) => `${site} ${no}`

/** The lines with the columns that the file has; a code that is free is another one in each. */
function linesOf({ lines, columns }: File): Line[] {
  const value = (at: number, name: keyof Values, of: Values) =>
    name === 'code' && of.code === 'free' ? `free ${at}` : of[name]
  return lines.map((each, at) => ({
    ...each,
    values: Object.fromEntries(columns.map((name) => [name, value(at, name, each.values)])),
  }))
}

function textOf({ form, columns, isGuarded }: File, lines: readonly Line[]): string {
  const guard = ({ guard: g }: Line) => (isGuarded ? { g } : {})
  if (form === 'ndjson')
    return lines
      .map((each) => JSON.stringify({ site: each.site, no: each.no, ...each.values, ...guard(each) }))
      .join('\n')
  const field = (name: string, value: unknown) => {
    if (value === null) return ''
    const text = typeof value === 'string' && name !== 'doc' ? value : JSON.stringify(value)
    return `"${text.replaceAll('"', '""')}"`
  }
  const head = ['site', 'no', ...columns, ...(isGuarded ? ['g'] : [])].join(',')
  const rows = lines.map((each) =>
    Object.entries({ site: each.site, no: each.no, ...each.values, ...guard(each) })
      .map(([name, value]) => field(name, value))
      .join(','),
  )
  return [head, ...rows].join('\r\n')
}

/** What the file has to come to: what is counted, which lines are left, and the pieces afterwards. */
function foresee({ isGuarded, onMissing }: File, lines: readonly Line[], before: readonly Piece[]) {
  const after = new Map(before.map((piece) => [keyOf(piece), piece]))
  const times = new Map<string, number>()
  for (const each of lines) times.set(keyOf(each), (times.get(keyOf(each)) ?? 0) + 1)
  const counts = { matched: 0, changed: 0, same: 0, added: 0, notFound: 0, ambiguous: 0, refused: 0 }
  const empty = { note: null, amount: '0.00', kind: null, tags: null, doc: null, owner: null, code: null }
  const comesTo = (each: Line): keyof typeof counts => {
    if ((times.get(keyOf(each)) ?? 0) > 1) return 'ambiguous'
    const is = after.get(keyOf(each))
    if (!is && onMissing === 'refuse') return 'notFound'
    if (is) counts.matched++
    if (is && isGuarded && each.guard !== 'v5') return 'refused'
    const will = { ...(is ?? { site: each.site, no: each.no, ...empty, row_version: 0 }), ...each.values }
    if (is && JSON.stringify(will) === JSON.stringify(is)) return 'same'
    const amount = Number(will.amount)
    if (amount < 0 || amount >= 500 || will.owner === NOBODY || will.code === TAKEN) return 'refused'
    if (!is) counts.added++
    after.set(keyOf(each), { ...will, row_version: will.row_version + 1 })
    return 'changed'
  }
  const left: number[] = []
  lines.forEach((each, at) => {
    const what = comesTo(each)
    counts[what]++
    if (what !== 'changed' && what !== 'same') left.push(at)
  })
  const sorted = [...after.values()].sort((one, other) => compare(one.site, other.site) || one.no - other.no)
  return { counts, left, after: sorted }
}
const compare = (one: string, other: string) => (one < other ? -1 : one > other ? 1 : 0)
const inOrder = (all: readonly Piece[]) =>
  [...all].sort((one, other) => compare(one.site, other.site) || one.no - other.no)

/** The report without what differs between two runs of the same. */
function reportOf({ state, report }: Job) {
  return { state, ...report, rows: report?.rows.length }
}

async function check(each: File): Promise<void> {
  const { relation, form, isGuarded, isRehearsed, chunk, onMissing, images } = each
  await refill(relation)
  const before = await pieces(relation)
  const [moment] = await sql('select clock_timestamp()::text as now')
  const lines = linesOf(each)
  const text = textOf(each, lines)
  const { counts, left, after } = foresee(each, lines, before)
  const isDone = chunk !== null || left.length === 0

  const query = {
    ...{ mode: 'commit', mapping: relation, onMissing, images },
    ...(chunk === null ? {} : { chunk }),
    ...(isGuarded ? { guard: 'g' } : {}),
  }
  const headers = { 'content-type': form === 'csv' ? 'text/csv' : 'application/x-ndjson' }
  const tried = isRehearsed ? await run(text, { ...query, mode: 'rehearse' }, headers) : null
  expect(await pieces(relation)).toEqual(before)
  const job = await run(text, { ...query, ...(tried?.rehearsal ? { rehearsal: tried.rehearsal } : {}) }, headers)

  expect(job.state).toBe(isDone ? 'done' : 'failed')
  expect(inOrder(await pieces(relation))).toEqual(isDone ? after : inOrder(before))
  if (tried) expect(reportOf(tried)).toEqual(reportOf(job))
  const { sample = [], rows = [], ...seen } = job.report ?? {}
  if (!isDone) return
  expect(seen).toEqual(counts)
  expect(rows).toHaveLength(counts.changed)
  expect(sample.map(({ key }) => Object.values(key).join(' '))).toEqual(left.map((at) => keyOf(lines[at] as Line)))
  const given = await service.request('GET', `/v1/jobs/${job.id}/failed-rows`)
  if (form === 'ndjson')
    expect(given.text.split('\n').filter(Boolean).map(withoutReason)).toEqual(
      left.map((at) => JSON.parse(text.split('\n')[at] as string) as unknown),
    )
  if (counts.changed === 0) return
  await putBack(moment?.['now'] as string)
  const isLike = (piece: Piece) => ({ ...piece, row_version: expect.any(Number) as number })
  expect(await pieces(relation)).toEqual(before.map(isLike))
}

function withoutReason(text: string): unknown {
  const { reason: _, ...row } = JSON.parse(text) as Record<string, unknown>
  return row
}

it('does with each line what has to be done, and puts it back', async () => {
  await holdsFor(ROUNDS, fc.asyncProperty(file, check))
})
