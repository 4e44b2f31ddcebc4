import fc from 'fast-check'
import { stringify } from 'csv-stringify/sync'
import { csvRecords, type CsvRecord } from '@ledgerman/contract'

/** The records of a text that comes in pieces. */
async function read(pieces: readonly string[], delimiter = ','): Promise<CsvRecord[]> {
  async function* text() {
    for (const piece of pieces) yield await Promise.resolve(piece)
  }
  const records: CsvRecord[] = []
  for await (const batch of csvRecords(text(), delimiter)) for (const record of batch) records.push(record)
  return records
}

/** A text cut at these places. */
function cut(text: string, places: readonly number[]): string[] {
  const sorted = [0, ...places.map((place) => place % (text.length + 1)).sort((one, other) => one - other), text.length]
  return sorted.slice(1).map((end, at) => text.slice(sorted[at], end))
}

const field = fc.oneof(
  fc.constant(null),
  fc.string({ unit: fc.constantFrom('a', 'ü', '"', ',', ';', '\n', '\r\n', ' ', '😀'), maxLength: 8 }),
)

describe('records of a CSV text', () => {
  it('are what was written, whoever wrote it, wherever the text is cut, null and the empty text apart', async () => {
    await fc.assert(
      fc.asyncProperty(
        fc.array(fc.tuple(field, field, field), { minLength: 1, maxLength: 8 }),
        fc.array(fc.nat(500), { maxLength: 6 }),
        fc.constantFrom(',', ';'),
        fc.constantFrom('\n', '\r\n'),
        async (rows, places, delimiter, end) => {
          const text = stringify(rows, { delimiter, record_delimiter: end, quoted_string: true })
          expect((await read(cut(text, places), delimiter)).map(({ fields }) => fields)).toEqual(rows)
        },
      ),
      { numRuns: 500 },
    )
  })

  it('know the line they begin at', async () => {
    const records = await read(['a,b\n"1\n2",x\n\n3,"', 'y"\n4', ',z'])
    expect(records).toEqual([
      { line: 1, fields: ['a', 'b'] },
      { line: 2, fields: ['1\n2', 'x'] },
      { line: 5, fields: ['3', 'y'] },
      { line: 6, fields: ['4', 'z'] },
    ])
  })

  it.each([
    ['a,b\n1,"x', 2, 2, 'never closed'],
    ['a,b\n1,x"y\n', 2, 2, 'in the middle'],
    ['a,b\n"1"x,2\n', 2, 1, 'behind the closing quote'],
    [`a\n"${'x\n'.repeat(600_000)}`, 2, null, 'more than 1000000 characters'],
  ])('of what is none are refused at their place', async (text, line, column, found) => {
    await expect(read([text])).rejects.toMatchObject({ code: 'file-invalid', facts: { line, column } })
    await expect(read([text])).rejects.toThrow(found)
    // The header has come before, so that whoever reads can say what is wrong with that first.
    async function* whole() {
      yield await Promise.resolve(text)
    }
    const { value } = await csvRecords(whole(), ',').next()
    expect((value as CsvRecord[])[0]).toMatchObject({ line: 1 })
  })
})
