import { jest } from '@jest/globals'

/** All but the clock runs as it does. */
const EVERY_TIMER = [
  ...(['setTimeout', 'clearTimeout', 'setInterval', 'clearInterval', 'setImmediate', 'clearImmediate'] as const),
  ...(['nextTick', 'queueMicrotask', 'hrtime', 'performance'] as const),
]

/**
 * Gives this process another time than the database's, as a machine has whose clock was set by hand.
 *
 * @param byMs how far it is ahead, in milliseconds; negative where it is behind.
 * @returns sets it back.
 */
export function moveClock(byMs: number): () => void {
  jest.useFakeTimers({ doNotFake: EVERY_TIMER, now: Date.now() + byMs })
  return () => void jest.useRealTimers()
}

/**
 * Has this process take so many milliseconds for past, whatever its clock says.
 *
 * @returns sets it back.
 */
export function passTime(ms: number): () => void {
  const now = performance.now.bind(performance)
  performance.now = () => now() + ms
  return () => void (performance.now = now)
}
