import { whatDiffers } from '../../src/drill/prove/what-differs.js'
import type { SnapshotDifference } from '../../src/drill/scratch/snapshot.js'

const table = { path: 'public.block', keys: [{ primary: true, columns: ['id'] }], columns: [] } as never
const row = (before: object | null, after: object | null): SnapshotDifference => ({
  table,
  before: before && JSON.stringify(before),
  after: after && JSON.stringify(after),
  beforeText: null,
  afterText: null,
})

describe('what written code leaves otherwise than the service', () => {
  const changed = row({ id: 1, state: 'planned', at: 1 }, { id: 1, state: 'done', at: 2 })
  const volatile = new Map([['public.block', new Set(['at'])]])

  it('is nothing where only a clock differs', () => {
    const later = row({ id: 1, state: 'planned', at: 1 }, { id: 1, state: 'done', at: 9 })
    expect(whatDiffers([changed], [later], volatile)).toEqual([])
    expect(whatDiffers([row(null, { id: 7, at: 1 })], [row(null, { id: 7, at: 5 })], volatile)).toEqual([])
  })

  it.each([
    ['another value', [row({ id: 1, state: 'planned', at: 1 }, { id: 1, state: 'failed', at: 2 })], 1],
    ['a row that was not written', [], 1],
    ['a row that was written too', [changed, row({ id: 2, state: 'planned' }, { id: 2, state: 'done' })], 1],
    ['a row that was removed', [row({ id: 1, state: 'planned', at: 1 }, null)], 1],
    ['a row that was added', [changed, row(null, { id: 3 })], 1],
    [
      'another clock where none is left out',
      [row({ id: 1, state: 'planned', at: 1 }, { id: 1, state: 'done', at: 9 })],
      0,
    ],
  ])('is told: %s', (_what, theirs, count) => {
    expect(whatDiffers([changed], theirs, volatile).length).toBe(count)
    expect(whatDiffers([changed], theirs, new Map()).length).toBe(1)
  })
})
