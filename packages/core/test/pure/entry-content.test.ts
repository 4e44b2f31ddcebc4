import { canonicalJson } from '@ledgerman/seal'
import { EntryContents, type ContentRow } from '../../src/book/sealing/entry-content.js'

const run = { transaction: 'move-hours', attempts: 1, isolation: 'read committed' }
const steps = [1, 2, 3].map((no) => ({ no, statement: null, expected: 'one', binds: ['P-107', '4.00'], matched: 1 }))
const row: ContentRow = ['{"actor":"ada"}', null, JSON.stringify(run), JSON.stringify(steps)]

describe('contents of entries', () => {
  const contents = new EntryContents({ query: () => Promise.reject(new Error('nothing is to be asked')) } as never)

  it('are canonical, one for each row', async () => {
    const bare: ContentRow = ['{"actor":"bo"}', null, null, null]
    expect(await contents.of([row, bare])).toEqual([
      canonicalJson({ actor: 'ada', run, statements: [], steps }),
      canonicalJson({ actor: 'bo', run: null, statements: [], steps: null }),
    ])
    expect(await contents.of([])).toEqual([])
  })

  it('of thousands let others have their turn again and again', async () => {
    let [turns, isOver] = [0, false]
    const turn = () => {
      turns++
      if (!isOver) setImmediate(turn)
    }
    setImmediate(turn)
    const texts = await contents.of(new Array<ContentRow>(5_000).fill(row))
    isOver = true
    expect([texts.length, new Set(texts).size]).toEqual([5_000, 1])
    expect(turns).toBeGreaterThan(20)
  })
})
