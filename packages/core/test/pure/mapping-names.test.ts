import fc from 'fast-check'
import { definitionName, parseTablePath, toTablePath } from '@ledgerman/contract'
import { toPropertyName } from '../../src/mapping/property-name.js'

describe('names derived from the catalogue', () => {
  it.each([
    ['hours_left', 'hoursLeft'],
    ['HoursLeft', 'hoursLeft'],
    ['RA deg', 'raDeg'],
    ['Größe (m²)', 'größeM'],
    ['2nd_slot', '_2ndSlot'],
    ['"', 'column'],
    ['select', 'select'],
  ])('turn %s into %s', (column, property) => expect(toPropertyName(column)).toBe(property))

  it('are always names that a definition may use', () => {
    fc.assert(
      fc.property(fc.string({ unit: 'grapheme' }), (name) =>
        expect(definitionName.safeParse(toPropertyName(name).slice(0, 100)).success).toBe(true),
      ),
    )
  })

  it('keep a table apart from every other one, whatever its name holds', () => {
    const part = fc.string({ unit: 'grapheme', minLength: 1 })
    fc.assert(
      fc.property(part, part, (schema, name) =>
        expect(parseTablePath(toTablePath(schema, name))).toEqual({ schema, name }),
      ),
    )
  })

  it.each(['', 'a.b.c', '"a', 'a.'])('refuse %j as a table', (path) =>
    expect(() => parseTablePath(path)).toThrow(/does not name a table/),
  )
})
