import fc from 'fast-check'
import { processorCost } from '../../../../testing/processor.js'
import { valuesInRow } from '../../src/mapping/catalogue/row-in-message.js'
import type { Column } from '../../src/mapping/catalogue/table.js'
import type { ValueKind } from '../../src/values/column-type.js'

const columnsOf = (kinds: ValueKind[]) =>
  kinds.map((kind, at) => ({ name: `c${at}`, type: { kind, element: kind === 'array' ? {} : null } }) as Column)

/** A row as PostgreSQL tells it: each value cut off behind 64 bytes. */
const told = (values: string[]) =>
  values.map((value) => (Buffer.byteLength(value) > 64 ? `${value.slice(0, 64)}...` : value)).join(', ')

const keyOf = (kinds: ValueKind[], row: string, ...places: number[]) => {
  const columns = columnsOf(kinds)
  return valuesInRow(
    row,
    columns,
    places.map((place) => columns[place] as Column),
  )
}

describe('the row that a message of PostgreSQL tells', () => {
  const PROGRAMME: ValueKind[] = [
    'integer',
    'text',
    'text',
    'text',
    'integer',
    'numeric',
    'array',
    'jsonb',
    'timestamptz',
  ]
  const LAST = '{imaging,time-critical}, {"binning": 2, "readout": "slow"}, 2026-01-10 19:13:00+00'

  it.each<[string, (number | string)[] | undefined]>([
    [`1, P-101, Lyra, 2026B, 2, 2.70, ${LAST}`, [1, 'P-101']],
    [`1, P-101, Dust, gas, and stars, 2026B, 2, 2.70, ${LAST}`, undefined],
    [`1, P-101, Lyra, null, 2, null, null, {"a": 1, "b": 2}, null`, [1, 'P-101']],
    [`1, P-101, Lyra, 2026B, 2, 2.70, ${LAST}, 7`, undefined],
    [`1, null, Lyra, 2026B, 2, 2.70, ${LAST}`, undefined],
    ['', undefined],
  ])('%s', (row, values) => expect(keyOf(PROGRAMME, row, 0, 1)).toEqual(values))

  it('tells the number before a text that may be read in two ways', () => {
    expect(keyOf(PROGRAMME, `1, P-101, Dust, gas, and stars, 2026B, 2, 2.70, ${LAST}`, 0)).toEqual([1])
  })

  it('is never read as another, and where no text has a comma is always read', () => {
    const piece = fc.string({ unit: fc.constantFrom('a', ', ', '1', '{', '}', '"', '.', 'null'), maxLength: 40 })
    const value = fc.oneof(
      fc.tuple(fc.constant<ValueKind>('integer'), fc.integer().map(String)),
      fc.tuple(fc.constant<ValueKind>('text'), piece),
      fc.tuple(
        fc.constant<ValueKind>('jsonb'),
        fc.json().map((json) => json.replaceAll(',', ', ')),
      ),
      fc.tuple(
        fc.constant<ValueKind>('array'),
        piece.map((text) => `{${text}}`),
      ),
    )
    fc.assert(
      fc.property(fc.array(value, { minLength: 1, maxLength: 8 }), fc.nat(7), (row, place) => {
        const texts = row.map(([, text]) => text)
        const [kind, text] = row[place % row.length] ?? ['text', '']
        fc.pre(kind === 'integer' || kind === 'text')
        const kinds = row.map(([of]) => of)
        const read = keyOf(kinds, told(texts), place % row.length)
        if (read) expect(String(read[0])).toBe(text)
        else
          expect(
            texts.some((each) => each.includes(', ')) || text === 'null' || text.endsWith('...') || text.length > 64,
          ).toBe(true)
      }),
      { numRuns: 2_000 },
    )
  })

  it.each(['text', 'array', 'jsonb'] as const)(
    'costs little, however it is made, where its columns are of %s',
    async (kind) => {
      const columns = new Array<ValueKind>(300).fill(kind)
      for (const row of [', '.repeat(5_000), 'a, '.repeat(316), '{, '.repeat(316)])
        expect(await processorCost(() => keyOf(columns, row, 0), 100)).toBeLessThan(100)
    },
  )
})
