/** An order in which several runs take their turns: the number of the run whose turn it is. */
export type Schedule = readonly number[]

/** How many interleavings there are of runs of so many statements each: a multinomial coefficient. */
export function countSchedules(lengths: readonly number[]): bigint {
  let count = 1n
  let total = 0n
  for (const length of lengths)
    for (let at = 1n; at <= BigInt(length); at++) {
      total++
      count = (count * total) / at
    }
  return count
}

/** Every interleaving, each once, in lexical order. */
export function* allSchedules(lengths: readonly number[]): Generator<Schedule> {
  const left = [...lengths]
  const taken: number[] = []
  yield* next()

  function* next(): Generator<Schedule> {
    if (left.every((count) => count === 0)) {
      yield [...taken]
      return
    }
    for (let run = 0; run < left.length; run++) {
      if (left[run] === 0) continue
      left[run]!--
      taken.push(run)
      yield* next()
      taken.pop()
      left[run]!++
    }
  }
}

/**
 * Different interleavings by chance, each as likely as any other.
 *
 * @param seed the same seed gives the same sample.
 */
export function sampleSchedules(lengths: readonly number[], size: number, seed: number): Schedule[] {
  const random = mulberry32(seed)
  const sample = new Map<string, Schedule>()
  const turns = lengths.flatMap((length, run) => Array.from({ length }, () => run))
  // There are more than are wanted, so that this ends.
  while (sample.size < size) {
    const schedule = shuffled(turns, random)
    sample.set(schedule.join(), schedule)
  }
  return [...sample.values()]
}

/** Every order of so many things. */
export function permutations(things: readonly number[]): number[][] {
  if (things.length <= 1) return [[...things]]
  return things.flatMap((first) =>
    permutations(things.filter((each) => each !== first)).map((rest) => [first, ...rest]),
  )
}

/** Fisher and Yates's shuffle. */
function shuffled(turns: readonly number[], random: () => number): number[] {
  const mixed = [...turns]
  for (let at = mixed.length - 1; at > 0; at--) {
    const other = Math.floor(random() * (at + 1))
    ;[mixed[at], mixed[other]] = [mixed[other] as number, mixed[at] as number]
  }
  return mixed
}

/** A small generator of evenly spread numbers from 0 to 1, the same for the same seed (mulberry32, public domain). */
function mulberry32(seed: number): () => number {
  let state = seed
  return () => {
    state = (state + 0x6d2b79f5) | 0
    let mixed = Math.imul(state ^ (state >>> 15), 1 | state)
    mixed = (mixed + Math.imul(mixed ^ (mixed >>> 7), 61 | mixed)) ^ mixed
    return ((mixed ^ (mixed >>> 14)) >>> 0) / 4_294_967_296
  }
}
