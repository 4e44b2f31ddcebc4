import fc from 'fast-check'
import { DrillClock } from '../../src/drill/clock.js'
import { maskedValue } from '../../src/drill/scratch/mask-value.js'
import { judge, type Serial } from '../../src/drill/interleaving/judge.js'
import { allSchedules, countSchedules, permutations, sampleSchedules } from '../../src/drill/interleaving/schedules.js'
import type { HistoryEvent, SeenRow, Trial } from '../../src/drill/interleaving/history.js'

const lengths = fc.array(fc.integer({ min: 1, max: 4 }), { minLength: 1, maxLength: 3 })

describe('schedules', () => {
  it('are all there are, each once, with every turn of every run', () => {
    fc.assert(
      fc.property(lengths, (each) => {
        const all = [...allSchedules(each)]
        expect(BigInt(all.length)).toBe(countSchedules(each))
        expect(new Set(all.map((schedule) => schedule.join())).size).toBe(all.length)
        const turnsOf = (schedule: readonly number[], run: number) => schedule.filter((turn) => turn === run).length
        expect(all.every((schedule) => each.every((turns, run) => turnsOf(schedule, run) === turns))).toBe(true)
      }),
      { numRuns: 40 },
    )
    expect(countSchedules([4, 4])).toBe(70n)
    expect(countSchedules([30, 30, 30])).toBeGreaterThan(10n ** 40n)
  })

  it('are sampled without repeating one, and the same seed gives the same sample', () => {
    fc.assert(
      fc.property(fc.integer({ min: 0, max: 2 ** 32 - 1 }), (seed) => {
        const sample = sampleSchedules([5, 5], 100, seed)
        expect(new Set(sample.map((schedule) => schedule.join())).size).toBe(100)
        expect(sampleSchedules([5, 5], 100, seed)).toEqual(sample)
      }),
      { numRuns: 20 },
    )
    expect(permutations([0, 1, 2])).toHaveLength(6)
  })
})

describe('what stands for a sensitive value', () => {
  it('has its shape and nothing of it, and is another for every row', () => {
    fc.assert(
      fc.property(fc.emailAddress(), fc.integer({ min: 1, max: 500 }), (email, row) => {
        const masked = maskedValue(email, row) as string
        expect(masked.replace(/\p{L}/gu, 'x').replace(/\d/g, '0')).toBe(
          email.replace(/\p{L}/gu, 'x').replace(/\d/g, '0'),
        )
        expect(maskedValue('tomas.okafor@harrowfell.example', row)).not.toBe(
          maskedValue('tomas.okafor@harrowfell.example', row + 1),
        )
      }),
    )
    expect(maskedValue('2026-02-03', 7)).toBe('2000-01-01')
    expect(maskedValue(null, 1)).toBeNull()
  })
})

describe('a schedule', () => {
  const row = (item: string, before: number | null, after: number | null = null): SeenRow => ({
    item,
    counterpart: item,
    label: item,
    mapping: 'account',
    key: { code: item },
    before: before === null ? null : { amount: before },
    after: after === null ? null : { amount: after },
    isWritten: after !== null,
    blind: ['amount'],
  })
  const event = (run: number, step: number | 'commit', kind: string, ...rows: SeenRow[]): HistoryEvent => ({
    run,
    step,
    kind,
    mapping: 'account',
    message: kind,
    action: 'ran',
    isByCondition: false,
    writesUnseen: false,
    rows,
    matched: rows.length,
  })
  const trial = (
    events: HistoryEvent[],
    final: Record<string, number>,
    refusals: (string | null)[] = [null, null],
  ): Trial => ({
    events,
    hasSnapshot: [false, false],
    refusals,
    final: new Map(Object.entries(final).map(([key, value]) => [key, String(value)])),
  })
  const serial = (order: number[], of: Trial): Serial => ({ order, trial: of })
  const first = trial(
    [
      event(0, 1, 'load', row('x', 5)),
      event(0, 2, 'change', row('x', 5, 4)),
      event(0, 'commit', 'commit'),
      event(1, 1, 'load', row('x', 4)),
      event(1, 2, 'change', row('x', 4, 3)),
      event(1, 'commit', 'commit'),
    ],
    { x: 3 },
  )

  it('is as good as an order of its runs where rows and reads are the same, and else is named for what went wrong', () => {
    expect(judge(first, [serial([0, 1], first)])).toBeNull()
    const lost = trial(
      [
        event(0, 1, 'load', row('x', 5)),
        event(1, 1, 'load', row('x', 5)),
        event(0, 2, 'change', row('x', 5, 4)),
        event(0, 'commit', 'commit'),
        event(1, 2, 'change', row('x', 4, 4)),
        event(1, 'commit', 'commit'),
      ],
      { x: 4 },
    )
    expect(judge(lost, [serial([0, 1], first)])).toMatchObject({ name: 'lost update' })
    // Where each set another property of the row, nothing of the other's is overwritten: the second found it other than it had read it.
    const both = (from: [number, number], to: [number, number], own: string): SeenRow => ({
      ...row('x', 0, 0),
      before: { amount: from[0], open: from[1] },
      after: { amount: to[0], open: to[1] },
      blind: [own],
    })
    const read = event(0, 1, 'load', { ...row('x', 0), before: { amount: 5, open: 0 } })
    const apart = trial(
      [
        read,
        { ...read, run: 1 },
        event(0, 2, 'change', both([5, 0], [4, 0], 'amount')),
        event(0, 'commit', 'commit'),
        event(1, 2, 'change', both([4, 0], [4, 1], 'open')),
        event(1, 'commit', 'commit'),
      ],
      { x: 4 },
    )
    const inTurn = trial([], { x: 4 })
    expect(judge(apart, [serial([0, 1], inTurn)])).toEqual({
      name: 'non-repeatable read',
      message: 'B read x twice and saw two different states of it.',
    })
    const alone = trial(first.events.slice(0, 3), { x: 4 }, [null, 'not run'])
    const refused = trial(lost.events.slice(0, 4), { x: 4 }, [null, 'record-changed'])
    expect(judge(refused, [serial([0], alone)])).toBeNull()
  })
})

describe('what a clock gave', () => {
  it.each([0, 3_600_000, -3_600_000])('is known by the time of the server, %d ms from ours', async (aheadMs) => {
    const ask = () => Promise.resolve({ rows: [[String(Date.now() + aheadMs)]] } as never)
    const clock = await DrillClock.begin(ask)
    const at = (ms: number) => new Date(Date.now() + aheadMs + ms).toISOString()
    expect(clock.without(at(0))).toBe('<clock>')
    expect(clock.without(at(0).replace('T', ' ').replace('Z', '+00'))).toBe('<clock>')
    expect([clock.isReading(at(-5_000)), clock.isReading(at(5_000)), clock.isReading(clock.frozenFor(0))]).toEqual([
      false,
      false,
      false,
    ])
  })
})
