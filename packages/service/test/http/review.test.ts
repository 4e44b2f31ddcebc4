import { readFileSync } from 'node:fs'
import { join } from 'node:path'
import type { Review } from '@ledgerman/contract'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Code that somebody already has, against a database that is there: what only that can say, and that nothing of it is run.
let service: RunningService
const PATH = '/v1/targets/observatory/review'
const json = { 'content-type': 'application/json' }
const review = async (text: string, path = 'desk.ts', more: object = {}): Promise<Review> => {
  const answer = await service.request('POST', PATH, { body: { files: [{ path, text }], ...more }, headers: json })
  expect([answer.status, answer.text]).toEqual([200, answer.text])
  return answer.body as Review
}
const query = (sql: string, values = '') =>
  `export async function f(pool) {\n  const { rows, rowCount } = await pool.query(${JSON.stringify(sql)}${values})\n  return [rows, rowCount]\n}\n`
const rulesOf = ({ findings }: Review) => findings.map(({ rule, level }) => `${level} ${rule}`)

beforeAll(async () => {
  service = await startTestService()
  await service.observatory
    .sql(`create table visit (id integer primary key, badge text not null, seen timestamptz); create index on visit (seen);
    insert into visit select n, 'B-' || n % 50, now() from generate_series(1, 20000) n; grant all on visit to ledgerman_worker; analyze`)
})
afterAll(() => service.stop())

describe('a review', () => {
  it('tells what a statement is: its tables, key, parameters with their types, and whether an index serves', async () => {
    const { statements, summary } = await review(
      query(
        'update programme set title = $1, row_version = row_version + 1 where code = $2 and row_version = $3',
        ', [1, 2, 3]',
      ),
    )
    expect(statements).toEqual([
      {
        path: 'desk.ts',
        line: 2,
        column: 47,
        language: 'typescript',
        function: 'f',
        text: 'update programme set title = $1, row_version = row_version + 1 where code = $2 and row_version = $3',
        kind: 'update',
        tables: ['programme'],
        key: ['code'],
        params: [
          { name: '$1', type: 'text' },
          { name: 'code', type: 'text' },
          { name: 'row_version', type: 'integer' },
        ],
        rows: 'one',
        index: 'serves',
      },
    ])
    expect(summary).toEqual({ files: 1, statements: 1, error: 0, warning: 0, note: 0, accepted: 0 })
  })

  it.each([
    ['select title from programme where code = $1 and hours_left > 3', ', [1]', []],
    ['select titel from programme', '', ['error unknown-name']],
    ['select no_such_function(code) from programme', '', ['error unknown-name']],
    ['select title from programme where code = 5', '', ['error type-mismatch']],
    ['select id from visit where badge = $1', ', [1]', ['warning no-index']],
    ['select id from visit where seen > $1', ', [1]', []],
    ['select id from visit where id = $1', ', [1]', []],
    ['delete from visit where badge = $1', ', [1]', ['warning no-index', 'warning not-one-row']],
    ['update programme set title = $1 where code = $2', ', [1, 2]', ['warning unguarded-save']],
    ['insert into exposure (id) values ($1)', ', [1]', ['error key-assigned']],
    ['select title from programme group by code', '', ['error does-not-parse']],
    ["select count(*) from (select code as c from programme) as p where p.c = 'x'", '', []],
  ])('finds what only the database knows: %s', async (sql, values, rules) => {
    expect(rulesOf(await review(query(sql, values))).sort()).toEqual(rules)
  })

  it('does not look for a name that the program puts in as it runs', async () => {
    const sets = "Object.keys(fields).map((name, at) => `${name} = $${at + 2}`).join(', ')"
    const text = `export async function save(pool, id, fields) {
      const sets = ${sets}
      const { rowCount } = await pool.query(\`update visit set \${sets} where id = $1\`, [id, ...Object.values(fields)])
      return rowCount
    }`
    expect(rulesOf(await review(text))).toEqual(['warning value-in-text'])
  })

  const readsAll = async (sql: string) =>
    rulesOf(await review(query(sql, sql.includes('$2') ? ', [1, 2]' : ', [1]'))).includes('warning no-index')
  it.each([
    'select id from visit where badge = $1',
    'select id from visit where upper(badge) = $1',
    'select id, seen from visit where badge like $1',
    'select count(*) from visit where badge = $1 and seen is not null',
    'select v.id from visit v join programme p on p.code = v.badge where v.badge <> $1',
    'select badge, count(*) from visit where badge <> $1 group by badge',
    'update visit set seen = now() where badge = $1',
    'delete from visit where badge = any($1)',
  ])('finds that no index serves: %s', async (sql) => {
    expect(await readsAll(sql)).toBe(true)
  })
  it.each([
    'select id from visit where id = $1',
    'select id from visit where seen > $1',
    'select id from visit where seen between $1 and $2',
    'select badge from visit where id = any($1)',
    'select id from visit where seen > $1 and badge = $2',
    'select id from visit where seen >= $1 order by seen limit 10',
    'select v.id from visit v join programme p on p.id = v.id where p.code = $1',
    'select title from programme where semester = $1',
  ])('finds an index, or a table so small that it needs none: %s', async (sql) => {
    expect(await readsAll(sql)).toBe(false)
  })

  it('says how many rows share a value today', async () => {
    const { findings } = await review(query('delete from visit where badge = $1', ', [1]'))
    expect(findings.find(({ rule }) => rule === 'not-one-row')?.message).toMatch(
      /Up to 400 rows have the same badge today\. Its keys: id\./,
    )
  })

  it('takes a unique index that holds for some rows only for a key where a condition says which', async () => {
    await service.observatory
      .sql(`create table member (id integer primary key, mail text not null, hours integer, active boolean not null);
      create unique index on member (mail) where active; grant all on member to ledgerman_worker`)
    const some = await review(query('update member set hours = 0 where mail = $1', ', [1]'))
    expect(rulesOf(some)).toContain('warning not-one-row')
    const one = await review(query('update member set hours = 0 where mail = $1 and active = true', ', [1]'))
    expect(rulesOf(one)).not.toContain('warning not-one-row')
    expect(one.statements[0]).toMatchObject({ rows: 'one', key: ['mail', 'active'] })
  })

  it('runs nothing of what it reads', async () => {
    const before = await service.observatory.sql('select count(*)::int as n from visit')
    await review(
      `${query('delete from visit')}${query("select setval('no_such', 1), pg_terminate_backend(pg_backend_pid())")}`,
    )
    await review("delete from visit; update visit set badge = 'x'; drop table visit; commit; select 1", 'all.sql')
    await review(query('select 1; drop table visit'))
    expect(await service.observatory.sql('select count(*)::int as n from visit')).toEqual(before)
    const [left] = await service.observatory.sql(
      `select count(*)::int as n from pg_prepared_statements where name = 'ledgerman_review'`,
    )
    expect(left).toEqual({ n: 0 })
    // The sessions that were asked read on.
    expect((await service.client.target('observatory').find('programme', { limit: 1 })).found).toHaveLength(1)
  })

  it('reads every language of the corpus, and gives it as SARIF too', async () => {
    const corpus = join(import.meta.dirname, '../../../review/test/corpus')
    const files = ['desk.py', 'Desk.php', 'Desk.java', 'Desk.cs', 'desk.js', 'desk.sql'].map((path) => ({
      path,
      text: readFileSync(join(corpus, path), 'utf8'),
    }))
    const answer = await service.request('POST', PATH, {
      body: { files },
      headers: { ...json, accept: 'application/sarif+json' },
    })
    const sarif = JSON.parse(answer.text) as {
      version: string
      runs: {
        results: {
          ruleId: string
          locations: { physicalLocation: { region: { startLine: number } } }[]
          suppressions?: unknown[]
        }[]
        tool: { driver: { rules: { id: string }[] } }
      }[]
    }
    const [run] = sarif.runs
    expect([answer.headers.get('content-type'), sarif.version, sarif.runs.length]).toEqual([
      'application/sarif+json',
      '2.1.0',
      1,
    ])
    expect(run?.results.length).toBeGreaterThan(100)
    for (const { ruleId, locations } of run?.results ?? []) {
      expect(run?.tool.driver.rules.map(({ id }) => id)).toContain(ruleId)
      expect(locations[0]?.physicalLocation.region.startLine).toBeGreaterThan(0)
    }
    expect(run?.results.filter(({ suppressions }) => suppressions).length).toBeGreaterThan(0)
  })

  it('goes by the placeholders that are said, and refuses what it cannot know', async () => {
    const text = `db.query("select title from programme where code = @code", { code: 1 })`
    expect((await review(text, 'a.js', { placeholders: 'at' })).statements[0]?.params).toEqual([
      { name: 'code', type: 'text' },
    ])
    expect((await service.request('POST', PATH, { body: { files: [] }, headers: json })).status).toBe(400)
    const { body } = await service.request('POST', '/v1/tokens', {
      body: { name: 'who reads', role: 'reader' },
      headers: json,
    })
    const refused = await service.request('POST', PATH, {
      body: { files: [{ path: 'a.sql', text: 'select 1' }] },
      headers: json,
      token: body.token,
    })
    expect(refused.status).toBe(403)
  })

  it('reads a large file while others are answered', async () => {
    const text = Array.from(
      { length: 1_500 },
      (_, at) =>
        `export const f${at} = (x) => { const y = [x, ${at}].map((each) => each + ${at}); return y.length > 3 ? y : null }`,
    ).join('\n')
    let isDone = false
    const reading = review(`${text}\nawait pool.query('delete from visit')`, 'large.js').finally(() => (isDone = true))
    let answers = 0
    while (!isDone)
      if (
        (await service.request('GET', `${PATH.replace('review', 'mappings')}/programme/records/P-107`)).status === 200
      )
        answers++
    expect(answers).toBeGreaterThan(5)
    expect(rulesOf(await reading)).toEqual(['error every-row'])
  })
})
