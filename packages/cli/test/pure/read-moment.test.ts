import { readMoment, readPlace } from '../../src/read-moment.js'

// Wherever the command runs, what it printed means the same when it is given back.
it.each([
  ['2026-02-03', '2026-02-03T00:00:00Z'],
  ['2026-02-03 21:00', '2026-02-03T21:00:00Z'],
  ['2026-02-03 21:00:05', '2026-02-03T21:00:05Z'],
  ['2026-02-03T21:00:00.123456z', '2026-02-03T21:00:00.123456Z'],
  ['2026-02-03T21:00:00+05:45', '2026-02-03T21:00:00+05:45'],
])('%s is %s', (text, moment) => expect(readMoment(text)).toBe(moment))

it.each(['yesterday', '2026-13-01', '2026-02-03T25:00', '3 Feb 2026', '2026', ''])('%j is no moment', (text) =>
  expect(() => readMoment(text)).toThrow(/Expected a moment/),
)

it('takes an entry where a place is asked for', () => {
  expect(readPlace('01a2283a-a75a-72b6-80d0-5fb00426fbaf')).toBe('01a2283a-a75a-72b6-80d0-5fb00426fbaf')
  expect(readPlace('2026-02-03')).toBe('2026-02-03T00:00:00Z')
})
