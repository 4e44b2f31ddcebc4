import fc from 'fast-check'
import { toTextArray } from '../../src/sessions/text-array.js'

describe('texts as an array of PostgreSQL', () => {
  it('are quoted, with a backslash before quotes and backslashes and before nothing else', () => {
    const parts = ['a', '"', '\\', ',', '{', '}', '/', ' ', '\n', '\t', '\0', '\x1f', '\x7f', '\u2028', '😀', '\ud800']
    const text = fc.oneof(fc.constant(null), fc.string({ unit: fc.constantFrom(...parts), maxLength: 12 }), fc.string())
    fc.assert(
      fc.property(fc.array(text, { maxLength: 5 }), (texts) => {
        const escaped = texts.map((each) => each?.replace(/[\\"]/g, (met) => `\\${met}`))
        expect(toTextArray(texts)).toBe(
          `{${escaped.map((each) => (each === undefined ? 'NULL' : `"${each}"`)).join(',')}}`,
        )
      }),
    )
  })
})
