import type { Target } from './target.js'

/**
 * What is made of a target's tables and types as they are now: what is known of them may be some seconds old, and is read again behind it. Made a
 * second time where some of it was altered.
 *
 * @param make may change nothing. @throws what `make` throws, of what is there now
 */
export async function asItIs<T>(target: Pick<Target, 'lookAgain'>, make: () => Promise<T>): Promise<T> {
  const since = performance.now()
  const made = await make().catch((error: unknown) => new Failed(error))
  if (await target.lookAgain(since)) return make()
  if (made instanceof Failed) throw made.error
  return made
}

class Failed {
  constructor(readonly error: unknown) {}
}
