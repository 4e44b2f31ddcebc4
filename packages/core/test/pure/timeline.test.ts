import fc from 'fast-check'
import type { RecordEvent } from '../../src/book/record-history.js'
import { timelineOf } from '../../src/run/record/timeline.js'

type Columns = Record<string, string | null>

const event = (id: number, before: Columns | null, after: Columns | null): RecordEvent => ({
  id: String(id).padStart(4, '0'),
  at: new Date(id * 1000).toISOString(),
  actor: 'ada',
  kind: 'change',
  transaction: null,
  note: null,
  isReversal: false,
  moved: null,
  stays: false,
  step: 0,
  before,
  after,
})

/** A life of a record: what it was after each step; the last step is what it is now. */
const life = fc.array(
  fc.record({ column: fc.constantFrom('a', 'b'), value: fc.nat(1_000_000).map(String), isOutside: fc.boolean() }),
  { minLength: 1, maxLength: 30 },
)

/** Makes the events that the book has of a life, and what the record is at its end. */
function live(steps: readonly { column: string; value: string; isOutside: boolean }[]) {
  const state: Columns = { a: 'a0', b: 'b0' }
  const events: RecordEvent[] = []
  for (const [at, { column, value, isOutside }] of steps.entries()) {
    const before = { [column]: state[column] ?? null }
    // Each step has a value of its own: with values that come back, more than one order of the events would join.
    state[column] = `${at}:${value}`
    if (!isOutside) events.push(event(at, before, { [column]: state[column] }))
  }
  return { events, now: { ...state } }
}

describe('the timeline of a record', () => {
  it('tells what was written past the book where the images show it, and nothing where all went through it', () => {
    fc.assert(
      fc.property(life, (steps) => {
        const { events, now } = live(steps)
        const timeline = timelineOf([...events].reverse(), now)
        const told = timeline.flatMap((each) => (each.event ? [each.event.id] : []))
        const booked = events.map(({ id }) => id)
        if (steps.some(({ isOutside }) => isOutside)) expect([...told].sort()).toEqual(booked)
        else expect(timeline.map((each) => each.event?.id)).toEqual(booked)
        // Whatever happened outside is told as what closes the gap: followed from first to last, each before is what was known.
        const known: Columns = {}
        for (const { before, after } of timeline) {
          for (const [name, value] of Object.entries(before ?? {})) {
            if (name in known) expect([name, known[name]]).toEqual([name, value])
            known[name] = value
          }
          Object.assign(known, after)
        }
        for (const name of Object.keys(known)) expect([name, known[name]]).toEqual([name, now[name] ?? null])
      }),
    )
  })

  it('puts events that committed in another order than they began into the order in which they join', () => {
    const [first, second, third] = [
      event(1, { a: '0' }, { a: '1' }),
      event(2, { a: '3' }, { a: '2' }),
      event(3, { a: '1' }, { a: '3' }),
    ] as const
    const timeline = timelineOf([third, second, first], { a: '2' })
    expect(timeline.map((each) => each.event?.id)).toEqual([first.id, third.id, second.id])
  })

  it('puts nothing into another order for an event that only seems to join', () => {
    // Removed, added by somebody past the book, removed, put back, and removed past the book.
    const [removed, again, back] = [
      event(1, { a: '1' }, null),
      event(2, { a: '2' }, null),
      event(3, null, { a: '1' }),
    ] as const
    const order = (now: Columns | null) =>
      timelineOf([back, again, removed], now).map((each) => each.event?.id ?? 'outside')
    expect(order(null)).toEqual([removed.id, 'outside', again.id, back.id, 'outside'])
    // The same, put back as it was removed: both orders have one gap, and that of time is taken.
    const same = event(3, null, { a: '2' })
    expect(timelineOf([same, again, removed], { a: '2' }).map((each) => each.event?.id ?? 'outside')).toEqual([
      removed.id,
      'outside',
      again.id,
      same.id,
    ])
  })

  it('knows a record that was removed and added again', () => {
    const [added, removed, again] = [
      event(1, null, { a: '1' }),
      event(2, { a: '1' }, null),
      event(3, null, { a: '2' }),
    ] as const
    expect(timelineOf([again, removed, added], { a: '2' }).map((each) => each.event?.id)).toEqual([
      added.id,
      removed.id,
      again.id,
    ])
    expect(timelineOf([removed, added], { a: '9' }).at(-1)).toEqual({ event: null, before: null, after: { a: '9' } })
  })
})
