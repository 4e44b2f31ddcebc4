import fc from 'fast-check'
import { isProblem, RawJson, type Json } from '@ledgerman/contract'
import { parseExpression } from '@ledgerman/core'
import { applyOperation, CopiedSize, type PatchOperation } from '../../src/run/record/json-patch.js'

const problemOf = (source: string) => {
  try {
    parseExpression(source)
    return null
  } catch (error) {
    if (isProblem(error, 'expression-invalid')) return error
    throw error
  }
}

describe('expressions', () => {
  it.each([
    'hoursLeft <= hoursGranted and not (priority = 3 or title is null)',
    `code in ('P-107', 'it''s') and title not like '%x%' and left(code, 2) || 'x' = 'P-x'`,
    'case when a > 1 then b else -c end between 1.5e3 and .5',
    `settings -> 'a' ->> 0 = 'x' and cast(a as integer) is distinct from 3`,
    `extract(year from takenAt) >= 2026 and coalesce(a, b, 0) % 2 = 1`,
    'a is not true and b is false',
  ])('read %s', (source) => expect(problemOf(source)).toBeNull())

  it.each([
    ['a = null', /use is null/],
    ['a <', /got the end/],
    ['a < b < c', /cannot be chained/],
    [`a = 'open`, /not closed/],
    ['lenght(a) > 1', /Unknown function lenght at character 1\. Did you mean length/],
    ['substring(a)', /takes 2 to 3 arguments, not 1/],
    ['a ; drop table b', /";" has no meaning here/],
    ['(select 1)', /Expected \), got 1/],
    ['a in ()', /Expected a value/],
    ['a == 1', /got = at character 4\. Write one = to compare/],
    ['a = 1 && b = 2', /"&&" has no meaning here at character 7\. Write and/],
    ['a::text', /"::" has no meaning here at character 2\. Write cast\(value as type\)/],
    [`a < date '2026-01-01'`, /is written cast\('2026-01-01' as date\)/],
    ['substring(a from 1)', /Expected \), got from at character 13\. Separate .* by commas/],
    ['a = "b', /This name is not closed/],
    [`any(tags) = 'x'`, /stands behind a comparison: 'imaging' = any\(tags\)/],
    ['a = any(tags', /Expected \), got the end/],
    ['', /got the end/],
  ])('refuse %s with its place', (source, words) => {
    const problem = problemOf(source)
    expect(problem?.detail).toMatch(words)
    expect(problem?.facts['position']).toBeGreaterThan(0)
    expect(problem?.detail).toMatch(/\^$/)
  })

  it('end in a value or a proper problem for any text', () => {
    const word = fc.constantFrom(
      'a',
      'b.c',
      '(',
      ')',
      'and',
      'or',
      'not',
      'is',
      'null',
      'in',
      ',',
      '=',
      '<',
      "'x'",
      '1',
      '1.5',
      'case',
      'when',
      'then',
      'end',
      'between',
      'like',
      '->',
      '||',
      '-',
      'lower(',
      'cast(',
      'as',
      "'",
      '€',
      '\n',
    )
    fc.assert(
      fc.property(
        fc.oneof(
          fc.string({ unit: 'binary' }),
          fc.array(word, { maxLength: 30 }).map((words) => words.join(' ')),
        ),
        (source) => void problemOf(source),
      ),
      { numRuns: 10_000 },
    )
  })

  it('are bounded in length and depth, with a word about it', () => {
    expect(problemOf('('.repeat(5000))?.detail).toMatch(/nested more than 100/)
    expect(problemOf('not '.repeat(2000) + 'a')?.detail).toMatch(/nested more than 100/)
    expect(problemOf('- '.repeat(4000) + 'a')?.detail).toMatch(/nested more than 100/)
    expect(problemOf('a'.repeat(20_000))?.detail).toMatch(/longer than 10000/)
    expect(problemOf(Array.from({ length: 1500 }, () => 'a').join(' + '))).toBeNull()
  })
})

describe('JSON Patch', () => {
  const context = { mapping: 'camera', guard: null, copied: new CopiedSize(), isSensitive: () => false }
  const apply = (record: { [name: string]: Json }, operation: PatchOperation) => {
    applyOperation(record, operation, 0, context)
    return record
  }

  it('goes into json only where it is told to, and leaves what was loaded as it was', () => {
    const settings = new RawJson('{"a":[1.00,2],"b~/c":{"d":12345678901234567890}}')
    const record = { settings, other: new RawJson('{"x": 1.0}') }
    apply(record, { op: 'replace', path: '/settings/b~0~1c/d', value: 5 })
    expect(record.settings).toEqual({ a: [new RawJson('1.00'), 2], 'b~/c': { d: 5 } })
    expect(record.other.text).toBe('{"x": 1.0}')
    expect(settings.text).toContain('12345678901234567890')
  })

  it.each<[PatchOperation, Json]>([
    [{ op: 'add', path: '/list/1', value: 9 }, [1, 9, 2, 3]],
    [{ op: 'add', path: '/list/-', value: 9 }, [1, 2, 3, 9]],
    [{ op: 'remove', path: '/list/0' }, [2, 3]],
    [{ op: 'move', from: '/list/0', path: '/list/2' }, [2, 3, 1]],
    [{ op: 'copy', from: '/list/2', path: '/list/0' }, [3, 1, 2, 3]],
    [{ op: 'test', path: '/list/1', value: new RawJson('2.0') }, [1, 2, 3]],
    [{ op: 'remove', path: '/list' }, null],
  ])('applies %j as RFC 6902 has it', (operation, list) =>
    expect(apply({ list: [1, 2, 3] }, operation)['list']).toEqual(list),
  )

  it.each<[PatchOperation, RegExp]>([
    [{ op: 'replace', path: 'list', value: 1 }, /JSON Pointer/],
    [{ op: 'replace', path: '/list/7', value: 1 }, /index up to 2/],
    [{ op: 'remove', path: '/list/x' }, /index up to 2/],
    [{ op: 'add', path: '/word/x', value: 1 }, /word has no parts/],
    [{ op: 'test', path: '/list/0', value: 2 }, /test of \/list\/0 fails/],
  ])('refuses %j with why', (operation, words) =>
    expect(() => apply({ list: [1, 2, 3], word: 'x' }, operation)).toThrow(words),
  )
})
