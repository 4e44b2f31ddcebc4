import { printJson, type LockHolder } from '@ledgerman/contract'
import type { Reply } from './route.js'

/**
 * Answers a call with server-sent events: `waiting` while it waits for a lock, with who holds it, then `answer` with the status and
 * body that a plain call would have had. So a caller who wants to can see why it takes long.
 *
 * @param toAnswer makes the answer of an error.
 */
export function follow(
  handle: (onWait: (holders: LockHolder[]) => void) => Promise<Reply>,
  toAnswer: (error: unknown) => { status: number; body: unknown },
): Reply {
  return {
    status: 200,
    headers: { 'cache-control': 'no-store' },
    stream: { contentType: 'text/event-stream', chunks: events() },
  }

  async function* events(): AsyncGenerator<string> {
    let wake: () => void = () => undefined
    const waiting: LockHolder[][] = []
    let answer: { status: number; body: unknown } | undefined
    const handled = handle((holders) => {
      waiting.push(holders)
      wake()
    })
      .then(({ status, body }) => ({ status, body }), toAnswer)
      .then((told) => {
        answer = told
        wake()
      })
    while (!answer || waiting.length > 0) {
      const holders = waiting.shift()
      if (holders) yield `event: waiting\ndata: ${printJson({ holders })}\n\n`
      else await new Promise<void>((resolve) => (wake = resolve))
    }
    await handled
    yield `event: answer\ndata: ${printJson(answer)}\n\n`
  }
}
