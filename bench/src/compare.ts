/** One way of doing a thing, measured against the others of its comparison. */
export interface Way {
  name: string
  /** Does the thing once, as caller `caller` of `CALLERS`. */
  once(caller: number): Promise<unknown>
}

/** How much faster than the first way, as the median over rounds, with the spread of the middle half. */
export interface Ratio {
  name: string
  perSecond: number
  ratio: number
  low: number
  high: number
}

export const CALLERS = 16

const WARM_UP_MS = 4_000

/**
 * Runs the ways in alternating slots of one process, so that whatever else the machine does falls on all of them, and
 * divides each round's rates by that of the first way in the same round.
 */
export async function compare(
  ways: readonly Way[],
  { rounds = 12, slotMs = 700, callers = CALLERS, warmUpMs = WARM_UP_MS } = {},
): Promise<Ratio[]> {
  // Until it is compiled the rate says nothing of what a server does that runs for days.
  for (const way of ways) await rateOf(way, warmUpMs, callers)
  const rates = new Map(ways.map((way) => [way.name, [] as number[]]))
  for (let round = 0; round < rounds; round++) {
    // The order turns, so that no way always follows the same other.
    for (let at = 0; at < ways.length; at++) {
      const way = ways[(at + round) % ways.length] as Way
      rates.get(way.name)?.push(await rateOf(way, slotMs, callers))
    }
  }
  const base = rates.get(ways[0]?.name ?? '') ?? []
  return ways.map(({ name }) => {
    const own = rates.get(name) ?? []
    const ratios = own.map((rate, round) => rate / (base[round] ?? 1)).sort((one, other) => one - other)
    const at = (part: number) => ratios[Math.floor((ratios.length - 1) * part)] ?? 0
    return { name, perSecond: median(own), ratio: at(0.5), low: at(0.25), high: at(0.75) }
  })
}

async function rateOf({ once }: Way, slotMs: number, callers: number): Promise<number> {
  const started = performance.now()
  let done = 0
  await Promise.all(
    Array.from({ length: callers }, async (_, caller) => {
      while (performance.now() - started < slotMs) {
        await once(caller)
        done++
      }
    }),
  )
  return (done / (performance.now() - started)) * 1000
}

function median(numbers: readonly number[]): number {
  return [...numbers].sort((one, other) => one - other)[Math.floor(numbers.length / 2)] ?? 0
}
