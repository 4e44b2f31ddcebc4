import type { EventEmitter } from 'node:events'
import type { Socket } from 'node:net'
import type pg from 'pg'

/** How much is kept of each end of what an error says: a function may raise any text. */
const END_OF_WORDS = 4_000
const WORDS = ['message', 'detail', 'hint', 'where', 'internalQuery'] as const

/** The server's answer was longer than is taken, and the connection was broken off in its middle. What became of a change is not known by that. */
export class AnswerTooLarge extends Error {
  override readonly name = 'AnswerTooLarge'

  constructor(readonly limitBytes: number) {
    super(
      `The database's answer was longer than ${limitBytes} bytes, so it was broken off. Ask for fewer rows, or for less of each.`,
    )
  }
}

export interface AnswerLimit {
  /** Begins to count anew, since something is asked whose answer may have so many bytes. */
  begin(most: number): void
}

/** Breaks a client's connection off where an answer has more bytes than it may, and shortens what its errors say. */
export function limitAnswers(client: pg.ClientBase): AnswerLimit {
  const { connection } = client as unknown as { connection: EventEmitter & { stream: Socket } }
  let [limitBytes, end] = [Infinity, Infinity]
  const { stream } = connection
  stream.on('data', () => {
    if (stream.bytesRead > end) stream.destroy(new AnswerTooLarge(limitBytes))
  })
  connection.prependListener('errorMessage', (error: Partial<Record<(typeof WORDS)[number], string>>) => {
    for (const part of WORDS) {
      const words = error[part]
      if (words !== undefined && words.length > 2 * END_OF_WORDS) error[part] = withoutMiddle(words)
    }
  })
  return {
    begin(most) {
      limitBytes = most
      end = stream.bytesRead + most
    },
  }
}

/** A text's beginning and end: the mark that closes a value stays, by which it can be taken out. */
function withoutMiddle(words: string): string {
  const left = words.length - 2 * END_OF_WORDS
  return `${words.slice(0, END_OF_WORDS)} … (${left} characters more) … ${words.slice(-END_OF_WORDS)}`
}
