import fc from 'fast-check'
import ts from 'typescript'
import { JsonTypeError, readJsonType } from '../../src/mapping/json-type.js'

/** Types as a person may write them. */
const { type } = fc.letrec((tie) => ({
  type: fc.oneof(
    { maxDepth: 4 },
    fc.constantFrom('string', 'number', 'boolean', 'null', 'unknown', `'slow'`, '"a b"', '-1.5', 'true'),
    tie('type').map((inner) => `(${String(inner)})[]`),
    fc.tuple(tie('type'), tie('type')).map(([one, other]) => `${String(one)} | ${String(other)}`),
    tie('type').map((inner) => `Record<string, ${String(inner)}>`),
    fc
      .array(fc.tuple(fc.constantFrom('a', 'größe', `'x-y'`, '$b'), fc.constantFrom('', '?'), tie('type')), {
        maxLength: 3,
      })
      .map((members) => `{ ${members.map(([name, mark, of]) => `${name}${mark}: ${String(of)}`).join('; ')} }`),
  ),
}))

describe('the type of a json property', () => {
  it('is TypeScript, and means what was written', () => {
    fc.assert(
      fc.property(type as fc.Arbitrary<string>, (source) => {
        const read = readJsonType(source)
        expect(readJsonType(read)).toBe(read)
        const { diagnostics } = ts.transpileModule(`export type T = ${read}`, { reportDiagnostics: true })
        expect(diagnostics).toEqual([])
      }),
    )
  })

  it.each([
    ['{ a: string', /got its end/],
    ['Date', /got Date at character 1/],
    ['string; import "fs"', /expected the end, got ; at character 7/],
    ['{ a: string } */ evil()', /\* has no meaning|"\*" has no meaning/],
    ['`x`', /has no meaning/],
    ['('.repeat(40) + 'string' + ')'.repeat(40), /nested more than 20/],
    ['', /expected a type/],
  ])('is refused as %s', (source, words) => {
    expect(() => readJsonType(source)).toThrow(words)
    expect(() => readJsonType(source)).toThrow(JsonTypeError)
  })
})
