import fc from 'fast-check'
import { copyLine, readCopyLine } from '@ledgerman/core'
import { blockBits } from '../../src/statement/image-block-sql.js'

describe('a row of a file', () => {
  it('comes out of COPY’s text form as it went in', () => {
    const field = fc.oneof(
      fc.constant(null),
      fc.string({ unit: fc.constantFrom('a', '\\', 'N', 't', '\t', '\n', '\r', '.', '😀'), maxLength: 10 }),
    )
    fc.assert(
      fc.property(fc.nat(), fc.nat(), fc.array(field, { minLength: 1, maxLength: 6 }), (no, line, row) => {
        const text = copyLine(no, line, row)
        expect(text.indexOf('\n')).toBe(text.length - 1)
        expect(readCopyLine(text.slice(0, -1))).toEqual({ no, line, row })
      }),
    )
  })
})

describe('blocks of images', () => {
  it('hold about a thousand rows, fewer where rows are wide, one where there are few, and are never more than 2^24', () => {
    fc.assert(
      fc.property(fc.integer({ min: 1, max: 1e9 }), fc.integer({ min: 0, max: 1e7 }), (rows, bytes) => {
        const bits = blockBits(rows, bytes)
        expect(bits).toBeGreaterThanOrEqual(0)
        expect(bits).toBeLessThanOrEqual(24)
        if (bits < 24) expect((rows / 2 ** bits) * Math.min(bytes, 512 * 1024)).toBeLessThanOrEqual(512 * 1024)
        if (bits < 24) expect(rows / 2 ** bits).toBeLessThanOrEqual(1000)
      }),
    )
    // Few rows must not stand in a block that every record is looked for in.
    expect([1, 64, 65, 64_000, 64_001].map((rows) => blockBits(rows, 10))).toEqual([24, 24, 6, 6, 7])
  })
})
