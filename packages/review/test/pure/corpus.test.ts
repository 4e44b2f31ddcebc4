import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { REVIEW_RULES, type ReviewFinding } from '@ledgerman/contract'
import { ReadingThread, readSource, reviewFiles, type ReviewCatalogue, type ReviewTable } from '@ledgerman/review'

// Snippets in every language, good and bad. A comment `finds RULE` says what has to be found on its line (`at -1`: on the one before), and
// nothing else may be; `sound RULE` says of a line that it is right where the rule finds something in its like.
const CORPUS = join(import.meta.dirname, '../corpus')
const catalogue: ReviewCatalogue = {
  searchPath: ['public'],
  tables: JSON.parse(readFileSync(join(import.meta.dirname, '../catalogue.json'), 'utf8')) as ReviewTable[],
}
const FINDS = /(?:#|\/\/|--)\s*finds ([a-z, -]+?)(?: at (-?\d+))?\s*(?:\*\/|-->)?$/

const SOUND = /(?:#|\/\/|--)\s*sound ([a-z, -]+)$/gm

const shown = ({ rule, line }: ReviewFinding) => `${rule} on line ${line}`

describe('the corpus', () => {
  const found = new Map<string, number>()
  const sound = new Map<string, number>()
  let statements = 0

  it.each(readdirSync(CORPUS))('%s: everything that is wrong is found, and nothing else', async (name) => {
    const text = readFileSync(join(CORPUS, name), 'utf8')
    const wanted = text.split('\n').flatMap((line, at) => {
      const [, rules, offset] = FINDS.exec(line) ?? []
      return (rules ?? '')
        .split(',')
        .flatMap((rule) => (rule.trim() === '' ? [] : [`${rule.trim()} on line ${at + 1 + Number(offset ?? 0)}`]))
    })
    const review = await reviewFiles([{ path: name, text }], { catalogue, read: readSource })
    const open = review.findings.filter(({ accepted }) => accepted === undefined)
    expect(open.map(shown).sort()).toEqual(wanted.sort())
    for (const { rule } of open) found.set(rule, (found.get(rule) ?? 0) + 1)
    for (const [, rules = ''] of text.matchAll(SOUND))
      for (const rule of rules.split(', ')) sound.set(rule, (sound.get(rule) ?? 0) + 1)
    statements += review.statements.length
    // Where it says that something begins there, something does.
    for (const { line, column, endLine, endColumn } of open) {
      expect(text.split('\n')[line - 1]?.length).toBeGreaterThanOrEqual(column - 1)
      expect(endLine > line || endColumn >= column).toBe(true)
    }
    const accepts = [...text.matchAll(/accepts ([a-z-]+)/g)].map(([, rule]) => rule)
    const acceptances = review.findings.filter(({ accepted }) => accepted !== undefined)
    for (const rule of accepts) expect(acceptances.map((each) => each.rule)).toContain(rule)
  })

  it('has eight cases of each kind for every rule but what only a database can say', () => {
    const few = REVIEW_RULES.filter((rule) => (found.get(rule) ?? 0) < 8 || (sound.get(rule) ?? 0) < 8)
    expect(few).toEqual(['no-index'])
    expect([...sound.keys()].filter((rule) => !(REVIEW_RULES as readonly string[]).includes(rule))).toEqual([])
    expect(statements).toBeGreaterThan(400)
  })
})

describe('a file that is none', () => {
  const thread = new ReadingThread()
  afterAll(() => thread.close())

  it.each([
    ['binary.py', `\0\0\0`],
    ['long.js', `x = '${'1'.repeat(300_000)}'`],
    ['open.py', `cur.execute("select 1 from t where a = 'x`],
    ['broken.ts', `export function f( { await pool.query('delete from exposure') `],
    ['deep.js', `${'('.repeat(20_000)}1${')'.repeat(20_000)}`],
    ['nested.sql', `select ${'('.repeat(5_000)}1${')'.repeat(5_000)}`],
    ['quotes.sql', `select 'a''b' || $x$ ; $x$ || E'\\'' ; ; delete from exposure`],
    ['unknown.rb', 'puts 1'],
    // What takes a reader that looks back the square of its length, or all memory.
    ['Chained.java', `class Chained { String sql = "select 1"; void f() { ${'.then('.repeat(15_000)} } }`],
    ['comments.sql', '/* '.repeat(60_000)],
    ['comments.py', `cur.execute("${'/* */ '.repeat(60)}x")`],
    ['rule.sql', `create rule kept as on insert to t do (${';'.repeat(190_000)}`],
    ['copies.sql', 'copy a '.repeat(28_000)],
    ['signs.sql', `select ${'+'.repeat(99_000)}1`],
    ['opened.sql', `select 1 ${'/*'.repeat(20_000)}${'*/'.repeat(20_000)}`],
  ])('%s is read as far as it can be, and ends nothing', async (path, text) => {
    const review = await reviewFiles(
      [
        { path, text },
        { path: 'after.sql', text: 'delete from exposure;' },
        { path: 'after.py', text: 'cur.execute("delete from exposure")' },
      ],
      { catalogue, read: thread.read },
    )
    expect(review.findings).toContainEqual(expect.objectContaining({ path: 'after.sql', rule: 'every-row' }))
    expect(review.findings).toContainEqual(expect.objectContaining({ path: 'after.py', rule: 'every-row' }))
    expect(review.summary.files).toBe(3)
  })
})
