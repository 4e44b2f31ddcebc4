/** One way of doing a thing, measured against the others of its comparison. */
export interface Way {
  name: string
  /** Does the thing once, as caller `caller` of `CALLERS`. */
  once(caller: number): Promise<unknown>
}

/** How much faster than the first way, as the median over rounds, with the spread of the middle half. */
export interface Ratio {
  name: string
  /** Of what was compared: how often a second, or how many milliseconds. */
  figure: string
  ratio: number
  low: number
  high: number
}

export const CALLERS = 16

const WARM_UP_MS = 4_000

/** What is compared: how often a second a thing is done, or how long the middle one, or all but one of a hundred, take at most. */
type Measure = 'rate' | 'p50' | 'p99'

/**
 * Runs the ways in alternating slots of one process, so that whatever else the machine does falls on all of them, and
 * divides each round's rates by that of the first way in the same round.
 */
export async function compare(
  ways: readonly Way[],
  { rounds = 12, slotMs = 700, callers = CALLERS, warmUpMs = WARM_UP_MS, by = 'rate' as Measure } = {},
): Promise<Ratio[]> {
  // Until it is compiled the rate says nothing of what a server does that runs for days.
  for (const way of ways) await measure(way, warmUpMs, callers, by)
  const measured = new Map(ways.map((way) => [way.name, [] as number[]]))
  for (let round = 0; round < rounds; round++) {
    // The order turns, so that no way always follows the same other.
    for (let at = 0; at < ways.length; at++) {
      const way = ways[(at + round) % ways.length] as Way
      measured.get(way.name)?.push(await measure(way, slotMs, callers, by))
    }
  }
  const base = measured.get(ways[0]?.name ?? '') ?? []
  return ways.map(({ name }) => {
    const own = measured.get(name) ?? []
    // What takes less time is better, as is what is done more often.
    const ratioTo = (value: number, other: number) => (by === 'rate' ? value / other : other / value)
    const ratios = own.map((value, round) => ratioTo(value, base[round] ?? 1)).sort((one, other) => one - other)
    const at = (part: number) => ratios[Math.floor((ratios.length - 1) * part)] ?? 0
    const middle = share(own, 0.5)
    const figure = by === 'rate' ? `${middle.toFixed(0)}/s` : `${middle.toFixed(1)} ms`
    return { name, figure, ratio: at(0.5), low: at(0.25), high: at(0.75) }
  })
}

async function measure({ once }: Way, slotMs: number, callers: number, by: Measure): Promise<number> {
  const started = performance.now()
  const times: number[] = []
  await Promise.all(
    Array.from({ length: callers }, async (_, caller) => {
      for (let since = started; since - started < slotMs;) {
        await once(caller)
        const now = performance.now()
        times.push(now - since)
        since = now
      }
    }),
  )
  return by === 'rate' ? (times.length / (performance.now() - started)) * 1000 : share(times, by === 'p50' ? 0.5 : 0.99)
}

/** The number that so large a part of all is no greater than. */
function share(numbers: readonly number[], part: number): number {
  return [...numbers].sort((one, other) => one - other)[Math.floor((numbers.length - 1) * part)] ?? 0
}

/** One way of doing something long, with what has to be done behind it so that the next finds all as it was. */
export interface LongWay {
  name: string
  once(): Promise<unknown>
  after?(): Promise<unknown>
}

/** Runs long ways in turn, and says how many times as long as the first each takes, as the median over rounds. */
export async function compareTimes(ways: readonly LongWay[], rounds: number): Promise<Ratio[]> {
  const measured = new Map(ways.map((way) => [way.name, [] as number[]]))
  for (let round = 0; round < rounds; round++)
    for (let at = 0; at < ways.length; at++) {
      const way = ways[(at + round) % ways.length] as LongWay
      const started = performance.now()
      await way.once()
      measured.get(way.name)?.push(performance.now() - started)
      await way.after?.()
    }
  const base = measured.get(ways[0]?.name ?? '') ?? []
  return ways.map(({ name }) => {
    const own = measured.get(name) ?? []
    const ratios = own.map((ms, round) => ms / (base[round] ?? 1)).sort((one, other) => one - other)
    const at = (part: number) => ratios[Math.floor((ratios.length - 1) * part)] ?? 0
    return { name, figure: `${share(own, 0.5).toFixed(0)} ms`, ratio: at(0.5), low: at(0.25), high: at(0.75) }
  })
}
