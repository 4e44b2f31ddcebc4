import type { Mapping } from '../../src/mapping/mapping.js'
import { toldBeside, type OwnRows, type WrittenWithIt } from '../../src/run/record/written-with-it.js'

const words = ['rack: rows of public.lens that may have been removed with it.']
const late = ['rack: what touch may have written to the same rows.']
const tables = [{ table: 'public.lens', added: 0, changed: 0, removed: 3 }]

const row = (kind: 'table' | 'partitioned table', ...kinds: OwnRows['kinds']): OwnRows[] => [
  { mapping: { table: { sql: 'public.rack', kind } } as Mapping, kinds, changed: 2 },
]
const own = (added: number, changed: number, removed: number): WrittenWithIt['own'] => [
  { path: 'public.rack', table: 'public.rack', added, changed, removed },
]
const beside = (added: number, changed: number, removed: number) => ({
  writtenWithIt: [{ table: 'public.rack', added, changed, removed }, ...tables],
  notShown: late,
})
const unknown = { notShown: [...late, ...words] }

it.each([
  ['counted all', row('table', 'remove'), { tables, own: own(0, 0, 2) }, { writtenWithIt: tables }],
  ['counted that nothing was', row('table', 'add'), { tables: [], own: own(2, 0, 0) }, { writtenWithIt: [] }],
  ['counted more rows of its own table', row('table', 'remove'), { tables, own: own(0, 1, 4) }, beside(0, 1, 2)],
  [
    'counted a move as two',
    row('partitioned table', 'change'),
    { tables, own: own(2, 0, 2) },
    { writtenWithIt: tables },
  ],
  ['counted what may be a move', row('partitioned table', 'change'), { tables, own: own(2, 1, 2) }, unknown],
  ['counted what it may have done itself', row('table', 'add', 'change'), { tables, own: own(2, 1, 0) }, unknown],
  [
    'counted its own, whichever it did',
    row('table', 'add', 'change'),
    { tables, own: own(1, 1, 0) },
    { writtenWithIt: tables },
  ],
  ['did not count even its own rows', row('table', 'change'), { tables: [], own: [] }, unknown],
  ['was not asked', row('table', 'change'), null, unknown],
])('a receipt says what was written with two rows where the server %s', (_, wrote, counted, told) => {
  expect(toldBeside(words, late, counted, wrote)).toEqual(told)
})
