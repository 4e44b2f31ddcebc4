import { printJson, type LockHolder, type Progress } from '@ledgerman/contract'
import type { Reply } from './route.js'

/** Tells a caller who follows a call. */
export interface Follower {
  onWait(holders: LockHolder[]): void
  onProgress(progress: Progress): void
}

/** How often a caller who has nothing to be told is told that the connection stands, in milliseconds. */
const BEAT_MS = 10_000

/**
 * Answers a call with server-sent events: `waiting` while it waits for a lock, with who holds it, `progress` where it takes long, then
 * `answer` with the status and body that a plain call would have had. So a caller who wants to can see why it takes long.
 *
 * @param toAnswer makes the answer of an error.
 */
export function follow(
  handle: (follower: Follower) => Promise<Reply>,
  toAnswer: (error: unknown) => { status: number; body: unknown },
): Reply {
  return {
    status: 200,
    headers: { 'cache-control': 'no-store' },
    stream: { contentType: 'text/event-stream', chunks: events() },
  }

  async function* events(): AsyncGenerator<string> {
    let wake: () => void = () => undefined
    const wokenWithin = (ms: number) =>
      new Promise<boolean>((resolve) => {
        const timer = setTimeout(() => resolve(false), ms)
        wake = () => {
          clearTimeout(timer)
          resolve(true)
        }
      })
    const told: string[] = []
    const tell = (event: string, data: unknown) => {
      told.push(`event: ${event}\ndata: ${printJson(data)}\n\n`)
      wake()
    }
    let answer: { status: number; body: unknown } | undefined
    const handled = handle({
      onWait: (holders) => tell('waiting', { holders }),
      onProgress: (progress) => tell('progress', progress),
    })
      .then(({ status, body }) => ({ status, body }), toAnswer)
      .then((given) => {
        answer = given
        wake()
      })
    while (!answer || told.length > 0) {
      const next = told.shift()
      if (next !== undefined) yield next
      else if (!(await wokenWithin(BEAT_MS))) yield ': still running\n\n'
    }
    await handled
    yield `event: answer\ndata: ${printJson(answer)}\n\n`
  }
}
