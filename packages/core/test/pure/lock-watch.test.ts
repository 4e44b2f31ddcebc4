import { setTimeout as delay } from 'node:timers/promises'
import type { LockHolder } from '@ledgerman/contract'
import { LockWatch } from '../../src/sessions/lock-watch.js'

const holder = (pid: number, depth: number, isRoot: boolean): LockHolder => ({
  ...{ pid, depth, isRoot, application: 'observing', user: 'ada', state: 'active' },
  ...{ since: null, transactionAgeMs: 10, lastStatement: null },
})

/** Watches a session, at whose lock these are seen, look by look; gives what was told of them. */
async function watched(looks: readonly LockHolder[][]): Promise<{ told: number[][]; held: number[] }> {
  const told: number[][] = []
  let at = 0
  const target = {
    control: () => Promise.resolve({ rows: (looks[at++] ?? []).map((each) => [JSON.stringify(each)]) }),
    cancel: () => Promise.resolve(true),
    giveUp: () => Promise.resolve(),
    explain: (error: unknown) => error,
    activity: {},
  } as unknown as LockWatch['target']
  const watch = new LockWatch(target, 1, 10_000, (holders) => told.push(holders.map(({ pid }) => pid)))
  while (at < looks.length) await delay(5)
  await delay(5)
  watch.end()
  return { told, held: watch.holders.map(({ pid }) => pid) }
}

describe('who holds a lock', () => {
  it('is not who waited for it and has just given up', async () => {
    const [waiter, root] = [holder(2, 1, false), holder(3, 2, true)]
    const { told, held } = await watched([[waiter, root], [holder(2, 1, true)], [holder(3, 1, true)]])
    expect(held).toEqual([3])
    expect(told).toEqual([[2, 3], [3]])
  })

  it('is who waited for it and has got it', async () => {
    const [waiter, root] = [holder(2, 1, false), holder(3, 2, true)]
    const now = [holder(2, 1, true)]
    expect((await watched([[waiter, root], now, now])).held).toEqual([2])
  })
})
