import fc from 'fast-check'
import {
  findNearestName,
  fromRecordAddress,
  parseJson,
  parsePrinted,
  printJson,
  RawJson,
  toRecordAddress,
} from '@ledgerman/contract'

describe('exact JSON', () => {
  it.each(['12345678901234567890.123', '-0', '1.00', '1E400', '{"a":[0.1,1e5,{"b":-0.0}]}', '"\\ud83d\\ude00"'])(
    'prints %s back with every digit',
    (text) => {
      const again = printJson(parseJson(text))
      expect(again.replaceAll('😀', '\\ud83d\\ude00')).toBe(text)
    },
  )

  it('reads and prints any JSON value as the same value', () => {
    fc.assert(
      fc.property(fc.jsonValue(), (value) =>
        expect(JSON.parse(printJson(parseJson(JSON.stringify(value))))).toEqual(JSON.parse(JSON.stringify(value))),
      ),
    )
  })

  it('reads what was printed as it reads anything else, however long a text in it is', () => {
    const exact = fc
      .constantFrom<unknown>('1.00', '-0', '12345678901234567890.5')
      .map((text) => new RawJson(text as string))
    const { tree } = fc.letrec((tie) => ({
      tree: fc.oneof(
        { maxDepth: 4 },
        fc.jsonValue(),
        exact,
        fc.array(tie('tree')),
        fc.dictionary(fc.string(), tie('tree')),
      ),
    }))
    fc.assert(
      fc.property(tree, (value) => {
        const printed = printJson(value)
        expect(parsePrinted(printed)).toEqual(parseJson(printed))
        expect(printJson(parsePrinted(printed))).toBe(printed)
      }),
    )
    const long = { text: '\\"1.00'.repeat(500_000), rest: 'x'.repeat(5_000_000) }
    expect(parsePrinted(printJson(long))).toEqual(long)
    // What a column of type json holds may name a member twice; what is sent may not.
    expect(parsePrinted('{"a":1.00,"a":2}')).toEqual({ a: 2 })
    expect(() => parseJson('{"a":1.00,"a":2}')).toThrow(/Duplicate/)
  })

  it('refuses a member given twice instead of dropping one, wherever it stands', () => {
    const name = fc.constantFrom('a', 'b"', '\\', ':', '__proto__')
    const { tree } = fc.letrec<{ tree: { text: string; isTwice: boolean } }>((tie) => ({
      tree: fc.oneof(
        { maxDepth: 3 },
        fc.constantFrom('"\\"a\\":"', '1.00', 'null').map((text) => ({ text, isTwice: false })),
        fc.array(tie('tree'), { maxLength: 3 }).map((parts) => ({
          text: `[${parts.map(({ text }) => text).join(' ,')}]`,
          isTwice: parts.some(({ isTwice }) => isTwice),
        })),
        fc.array(fc.tuple(name, tie('tree')), { maxLength: 4 }).map((members) => ({
          text: `{${members.map(([each, { text }]) => `${JSON.stringify(each)} : ${text}`).join()}}`,
          isTwice:
            new Set(members.map(([each]) => each)).size < members.length || members.some(([, part]) => part.isTwice),
        })),
      ),
    }))
    fc.assert(
      fc.property(tree, ({ text, isTwice }) => {
        if (isTwice) expect(() => parseJson(text)).toThrow(SyntaxError)
        else expect(printJson(parseJson(text))).toBe(text.replaceAll(/ (?=[:,])|(?<=:) /g, ''))
      }),
    )
  })

  it('reads a text of millions of quotes', () => {
    const text = '"'.repeat(6_000_000)
    expect(parseJson(JSON.stringify({ text }))).toEqual({ text })
  })
})

describe('record addresses', () => {
  it('carry any key values, commas, slashes, percent signs and accents included', () => {
    fc.assert(
      fc.property(fc.array(fc.string({ unit: 'grapheme', minLength: 1 }), { minLength: 1 }), (key) =>
        expect(fromRecordAddress(toRecordAddress(key))).toEqual(key),
      ),
    )
    expect(toRecordAddress(['a,b', 'c/d%'])).toBe('a%2Cb,c%2Fd%25')
  })
})

describe('the nearest name', () => {
  it('is suggested for a slip, and nothing for another word', () => {
    const known = ['hoursLeft', 'hoursGranted', 'title']
    expect(findNearestName('hourleft', known)).toBe('hoursLeft')
    expect(findNearestName('telescope', known)).toBeUndefined()
  })
})
