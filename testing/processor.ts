/** How often something is tried: what else the machine does counts as well, so the least is what it takes. */
const TRIES = 3

/** A fixed piece of work, of about a millisecond on a machine of our day. */
function beat(): void {
  const rows = Array.from({ length: 300 }, (_, at) => ({
    at,
    code: `P-${at}`,
    hours: at / 8,
    tags: ['a', 'b', `${at}`],
  }))
  for (let times = 0; times < 3; times++) JSON.parse(JSON.stringify(rows))
}

/** Processor time of this process, all its threads, in milliseconds. */
function processorMs(): number {
  const { user, system } = process.cpuUsage()
  return (user + system) / 1000
}

/** What one beat takes now, in milliseconds. */
function beatMs(): number {
  const before = processorMs()
  for (let times = 0; times < 20; times++) beat()
  return (processorMs() - before) / 20
}

/**
 * How much of the processor something takes, in beats: the same on a slow machine as on a fast one.
 *
 * @param most ends the tries as soon as one took less
 */
export async function processorCost(work: () => unknown, most: number): Promise<number> {
  await work()
  let least = Infinity
  for (let tries = 0; tries < TRIES && least >= most; tries++) {
    const unit = beatMs()
    const before = processorMs()
    await work()
    least = Math.min(least, (processorMs() - before) / unit)
  }
  return least
}
