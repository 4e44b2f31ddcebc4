import { toldBeside } from '../../src/record/written-with-it.js'

const words = ['rack: rows of public.lens that may have been removed with it.']
const tables = [{ table: 'public.lens', added: 0, changed: 0, removed: 3 }]

it.each([
  ['counted all', { tables, own: 2 }, { writtenWithIt: tables }],
  ['counted that nothing was', { tables: [], own: 2 }, { writtenWithIt: [] }],
  ['counted more rows of its own table', { tables, own: 3 }, { writtenWithIt: tables, notShown: words }],
  ['did not count even its own rows', { tables: [], own: 0 }, { notShown: words }],
  ['was not asked', null, { notShown: words }],
])('a receipt says what was written with two rows where the server %s', (_, counted, told) => {
  expect(toldBeside(words, counted, 2)).toEqual(told)
})
