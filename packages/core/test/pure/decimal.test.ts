import fc from 'fast-check'
import { shortestReal } from '../../src/values/decimal.js'

// What PostgreSQL 15 prints: `select '3594845.25'::real`.
describe('the shortest decimal of a real', () => {
  it.each([
    [3594845.25, '3594845.2'],
    [-3594845.25, '-3594845.2'],
    [3594845.75, '3594845.8'],
    [-1601912064, '-1.6019121e+9'],
    [34688712, '34688712'],
    [0.1, '0.1'],
    [16777216, '16777216'],
    [1e-45, '1e-45'],
    [3.4028235e38, '3.4028235e+38'],
  ])('of %d is %s', (value, text) => expect(Number(shortestReal(value))).toBe(Number(text)))

  it('is that real again, in nine digits at most', () => {
    fc.assert(
      fc.property(fc.float({ noNaN: true, noDefaultInfinity: true }), (value) => {
        const text = shortestReal(value)
        expect(Math.fround(Number(text)) === value).toBe(true)
        expect(text.replace(/e.*|[-.]/g, '').replace(/^0+/, '').length).toBeLessThanOrEqual(9)
      }),
    )
  })
})
