import { isProblem } from '@ledgerman/contract'
import { resolvePlan, runPlan, type Mapping } from '@ledgerman/core'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'

let own: OwnTables
let tight: Mapping

beforeAll(async () => {
  own = await openOwnTables()
  tight = await own.mapped(
    'public.tight',
    `create domain label as varchar(5);
     create table tight (id integer primary key, word varchar(5), padded char(5), tag label, name name, letter "char", bits bit varying(4), words varchar(5)[],
       source text, at timestamp(0), span interval year to month, price money default 1, grid numeric(4,1)[]);
     insert into tight (id, word, padded, tag, words, source, bits) values (1, 'abc', 'abc', 'abc', '{abc}', 'defghi', '101')`,
  )
})
afterAll(() => own.close())

const compute = async (computed: Record<string, string>, mapping = tight) => {
  const definition = { params: {}, steps: [{ change: mapping.name, key: { id: '1' }, compute: computed }] }
  const plan = await resolvePlan(own.target, definition as never, null, null, () => Promise.resolve(mapping))
  return runPlan(own.target, plan, { mode: 'rehearse', actor: 'test', params: {} })
}

describe('a computed value', () => {
  it.each([
    ['word', 'word || source'],
    ['padded', 'trim(padded) || source'],
    ['tag', 'tag || source'],
    ['letter', 'source'],
    [
      'name',
      'source || source || source || source || source || source || source || source || source || source || source',
    ],
    ['bits', `bits || '11'`],
    ['words', `words || cast(source as text)`],
  ])('that is too long for its column is refused, never cut off: %s', async (property, expression) => {
    const refused = await compute({ [property]: expression }).catch((error: unknown) => error)
    expect(isProblem(refused, 'value-invalid') && refused.detail).toMatch(/too long|at most/)
  })

  it('that a trigger finds too long for another table is not told as one of its own', async () => {
    const noted = await own.mapped(
      'public.noted',
      `create table noted (id integer primary key, word varchar(5)); create table jotted (word varchar(5)); insert into noted values (1, 'abc');
       create function jot() returns trigger language plpgsql as $$ begin insert into jotted values (new.word || new.word); return new; end $$;
       create trigger jot after update on noted for each row execute function jot()`,
    )
    const refused = await compute({ word: `word || 'd'` }, noted).catch(String)
    expect(refused).toMatch(/a function of the database fails: value too long for type character varying\(5\)/)
  })

  it('that fits is what its column holds, and differs only where the column would', async () => {
    const { receipt } = await compute({
      word: `word || 'de'`,
      padded: 'trim(padded)',
      tag: `tag || 'd'`,
      words: `words || 'd'`,
      letter: `'x'`,
    })
    expect(receipt.steps[0]?.rows[0]?.after).toEqual({ word: 'abcde', tag: 'abcd', words: ['abc', 'd'], letter: 'x' })
    expect((await compute({ padded: `'abc'`, word: 'word' })).receipt.steps[0]).toMatchObject({
      matched: 1,
      changed: 0,
    })
  })

  it('that loses digits, or fields of an interval, is told', async () => {
    const { receipt } = await compute({
      at: 'now()',
      span: `cast('P1Y2M3D' as interval)`,
      price: 'price * 1.005',
      grid: `grid || '1.25'`,
      word: `'a'`,
    })
    expect(receipt.rounded?.map(({ property, to }) => [property, to])).toEqual([
      ['at', 'timestamp(0) without time zone'],
      ['span', 'interval year to month'],
      ['price', 'money'],
      ['grid', 'numeric(4,1)[]'],
    ])
    for (const at of [`cast('2026-01-01' as date)`, `date_trunc('minute', now())`])
      expect((await compute({ at, span: 'span', grid: 'grid', price: 'price' })).receipt.rounded).toBeUndefined()
  })
})
