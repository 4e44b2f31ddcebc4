import fc from 'fast-check'
import pg from 'pg'
import { isProblem } from '@ledgerman/contract'
import { findRecords, parseExpression, type Mapping } from '@ledgerman/core'
import { followLinks } from '../../src/mapping/links.js'
import { buildFind } from '../../src/statement/build-find.js'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

// Properties have their columns' names here, so that an expression is SQL as it stands: PostgreSQL itself says what it means.
const COLUMNS = {
  whole: ['id', 'small', 'big'],
  exact: ['money2', 'free'],
  float: ['single', 'double8'],
  text: ['word', 'short', 'padded'],
  truth: ['flag'],
  date: ['night'],
  time: ['hour'],
  moment: ['seen', 'seenz'],
  span: ['took'],
  id: ['uid'],
  mood: ['mood'],
  list: ['tags'],
  price: ['price'],
} as const
type Kind = keyof typeof COLUMNS
const KINDS = Object.keys(COLUMNS) as Kind[]

const LITERALS: Readonly<Record<Kind, readonly string[]>> = {
  whole: ['0', '3', '17', '40'],
  exact: ['1.5', '0.25', '10.00'],
  float: ['1.5', '2', '0.25'],
  text: [`'abc'`, `'a%'`, `''`, `'it''s'`, `'x_y'`, `'%b%'`],
  truth: ['true', 'false'],
  date: [`'2024-03-05'`],
  time: [`'03:14'`],
  moment: [`'2024-03-01 10:00'`],
  span: [`'P2D'`, `'3 days'`],
  id: [`'00000000-0000-0000-0000-000000000005'`],
  mood: [`'ok'`, `'sad'`],
  list: [`'{p,q1}'`, `'{}'`],
  price: [`'1.50'`, `'12'`],
}

/** What gives a value of a kind out of values of it and of others; `$KIND` stands for one, `@KIND` for a column. */
const FORMS: Readonly<Record<Kind, readonly string[]>> = {
  whole: [
    '($whole + $whole)',
    '($whole * 3)',
    '($whole % 7)',
    '($whole / 3)',
    'length($text)',
    'abs(-@whole)',
    '(night - night)',
  ],
  exact: [
    '($exact + $exact)',
    '($exact * $whole)',
    '($exact / 7.0)',
    'round($exact, 1)',
    'floor($exact)',
    'cast($whole as numeric)',
    'nullif(@whole, @exact)',
  ],
  float: [
    '(@float * $float)',
    '(@float / 2)',
    'abs(@float)',
    '(price / price)',
    'nullif(@whole, @float)',
    'nullif(@exact, @float)',
  ],
  text: [
    'lower($text)',
    '($text || $text)',
    'substring($text, 2)',
    `replace($text, 'a', 'b')`,
    'cast($whole as text)',
    'trim(@text)',
  ],
  truth: [
    '($truth and $truth)',
    '($truth or $truth)',
    '(not $truth)',
    '(@truth = not $truth)',
    '($truth is not true)',
    `($text like 'a%')`,
    '(@list is null)',
    '($text = any(tags))',
    '(@text <> all(@list))',
    `('q1' < any(coalesce(tags, '{}')))`,
    '(not (lower(@text) = any(tags || tags)))',
    '(word is null)',
  ],
  date: ['(night + 3)', '(night - 1)', 'cast(@moment as date)'],
  time: [`(hour + '1 hour')`],
  moment: [
    '(@moment + took)',
    `(@moment - '2 days')`,
    `date_trunc('day', @moment)`,
    '(night + hour)',
    `(night + '1 day')`,
  ],
  span: ['(seen - seen)', '(took * 2)', '(took + took)', '(hour - hour)'],
  id: [],
  mood: [],
  list: ['(tags || tags)'],
  price: ['(price * 1.005)', '(price / 3)', '($price + price)', '(2 * price)', '($price - price)'],
}
const COMMON = [
  'coalesce(@, $)',
  'case when $truth then @ else $ end',
  'case @whole when 1 then @ when $whole then @ else $ end',
  'case @ when @ then @ end',
  'nullif(@, $)',
  'greatest(@, $)',
]
const COMPARISONS = [
  '(@ = $)',
  '(@ <> $)',
  '(@ < $)',
  '($ >= @)',
  '(@ is distinct from $)',
  '(@ in ($, $))',
  '(@ not in ($, @))',
  '(@ between $ and $)',
  '(@ not between @ and $)',
]

/** A condition with everything in it; the kinds of both sides of a comparison are the same. */
const condition = fc.gen().map((gen) => {
  const pick = <T>(of: readonly T[]): T => gen(() => fc.constantFrom(...of))
  const value = (kind: Kind, depth: number): string => {
    if (depth <= 0) return pick([...COLUMNS[kind], ...LITERALS[kind]])
    const compared = kind === 'truth' ? COMPARISONS.map((form) => [form, pick(KINDS)] as const) : []
    const [form, of] = pick([...FORMS[kind], ...COMMON].map((each) => [each, kind] as const).concat(compared))
    return form.replace(/([$@])(\w*)/g, (_, sign: string, named: string) => {
      const inner = (named || of) as Kind
      return sign === '@' ? pick(COLUMNS[inner]) : value(inner, depth - 1 - pick([0, 1]))
    })
  }
  return value('truth', 4)
})

let own: OwnTables
let odd: Mapping
let client: pg.Client
const find = (where: string) => findRecords(own.target, odd, { where, limit: 100 }, () => Promise.resolve(odd))
const idsOf = async (where: string) => (await find(where)).found.map(({ id }) => id)

beforeAll(async () => {
  own = await openOwnTables({}, {}, { isTrapped: true })
  client = new pg.Client({ connectionString: own.database.url, options: '-c timezone=UTC -c search_path=public' })
  await client.connect()
  odd = await own.mapped(
    'public.odd',
    `create type mood as enum ('sad', 'ok', 'happy');
     create table odd (id integer primary key, small smallint, big bigint, money2 numeric(8,2), free numeric, single real, double8 double precision,
       word text, short varchar(12), padded char(6), flag boolean, night date, hour time, seen timestamp, seenz timestamptz, took interval, uid uuid,
       mood mood, tags text[], price money);
     insert into odd select n, n % 7 - 3, n * 1000000007::bigint, n * 1.37, n / 3.0, n * 0.25, n * 0.5,
       case when n % 5 > 0 then (array['abc', 'Abc', 'a%b', '', 'x_y', 'it''s'])[1 + n % 6] end, (array['abc', 'v ', ' zz'])[1 + n % 3], 'ab' || n % 2,
       case n % 3 when 0 then true when 1 then false end, date '2024-02-27' + n, time '00:00' + n * interval '97 min', timestamp '2024-02-27 10:00' + n * interval '7 h',
       timestamptz '2024-02-27 10:00Z' + n * interval '5 h', n * interval '1 day 3 h', ('00000000-0000-0000-0000-0000000000' || lpad(n::text, 2, '0'))::uuid,
       (array['sad', 'ok', 'happy'])[1 + n % 4]::mood, case when n % 3 > 0 then array['p', 'q' || n % 4] end, (n * 0.75)::numeric::money from generate_series(1, 24) n`,
  )
})
afterAll(async () => {
  await client.end()
  await own.close()
})

describe('an expression', () => {
  it('is true of the rows that SQL says it is true of', async () => {
    let compared = 0
    await fc.assert(
      fc.asyncProperty(condition, async (source) => {
        const rows = await client.query<{ id: number }>(`select id from odd where ${source} order by id`).then(
          (result) => result.rows,
          () => null,
        )
        // A text that stands alone has a type of its own there, and here that of what it is compared with: more can be read.
        if (rows === null) return
        compared++
        expect(await idsOf(source)).toEqual(rows.map(({ id }) => id))
      }),
      { numRuns: 1_000, endOnFailure: true },
    )
    expect(compared).toBeGreaterThan(500)
  })

  it.each([
    'nullif(id, free) / 2 > 3.2',
    'nullif(id, single) / 4 = 0.25',
    'nullif(free, double8) / 3 > 1.11111111111111111111',
    'length(substring(nullif(short, padded), 2)) = 1',
    `nullif(padded, word) || '|' = 'ab1|'`,
    `length(substring(nullif(short, word), 2)) = 1`,
  ])('gives the first of two values as it was compared: %s', async (source) => {
    const { rows } = await client.query<{ id: number }>(`select id from odd where ${source} order by id`)
    expect(await idsOf(source)).toEqual(rows.map(({ id }) => id))
  })

  it('compares lists with lists', async () => {
    expect(await idsOf(`tags in ('{p,q1}', '["p", "q2"]')`)).toEqual([1, 2, 5, 10, 13, 14, 17, 22])
    expect(await idsOf(`tags not in ('{p,q1}', '{p,q2}') and id < 9`)).toEqual([4, 7, 8])
  })

  it('compares with each of a list for itself', async () => {
    for (const where of ['short in (padded, trim(short))', `short not in (padded, trim(short), 'x')`])
      expect(await idsOf(where)).toEqual(
        (await client.query<{ id: number }>(`select id from odd where ${where} order by id`)).rows.map(({ id }) => id),
      )
  })

  it('may name a value once, and compare it with several', async () => {
    expect(await idsOf(`case mood when 'ok' then 1 when 'happy' then 2 else 3 end = 2 and id < 9`)).toEqual([2, 6])
    const problem = await find('case small when null then true end').catch((error: unknown) => error)
    expect(isProblem(problem, 'expression-invalid') && problem.detail).toMatch(/Nothing is = null.*character 17/s)
  })

  it.each([
    ['is distinct from', (inner: string) => `case when ${inner} is distinct from tags then tags end`],
    ['between', (inner: string) => `case when ${inner} between tags and tags then tags end`],
    ['nullif', (inner: string) => `nullif(${inner}, tags)`],
    ['case', (inner: string) => `case ${inner} when tags then tags when '{}' then tags end`],
  ])('is no longer in SQL than it has parts, however deep: %s', async (_name, deeper) => {
    let source = 'tags'
    for (let depth = 0; depth < 45; depth++) source = deeper(source)
    const expression = parseExpression(`${source} is null`)
    const shape = {
      where: { label: 'where', source: `${source} is null`, expression },
      properties: null,
      order: [],
      guarded: false,
    }
    const links = await followLinks(odd, [expression], [], () => Promise.resolve(odd))
    expect(buildFind(odd, shape, links, 'start').statement.text.length).toBeLessThan(100_000)
    expect((await idsOf(`${source} is null`)).length).toBeGreaterThan(0)
  })
})
