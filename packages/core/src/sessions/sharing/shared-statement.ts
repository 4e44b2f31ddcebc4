import { isConnectionError } from '../connection-error.js'
import { isCancelled, isLockTimeout } from '../database-error.js'
import { toTextArray } from '../text-array.js'
import { askAlone, Gathering, type Asking } from './gathering.js'
import type { NamedText, Rows } from '../queryable.js'

type Row = (string | null)[]

export interface SharedStatementOptions {
  statement: NamedText
  send: (text: string, values: string[], name: string, onStart: (pid: number) => void) => Promise<Rows>
  /** Whether these rows, without their place, answer the caller. */
  answers: (rows: Row[]) => boolean
  /** Whether it is safe to send again what may have been done. */
  isRead: boolean
}

const MOST_CALLERS = 64
const PATIENCE_MS = 20

/**
 * A statement that callers who ask at the same time share, in one round trip and one transaction. Where it fails, everybody asks
 * alone, so that each learns of their own.
 */
export class SharedStatement extends Gathering {
  constructor(readonly options: SharedStatementOptions) {
    super(MOST_CALLERS, PATIENCE_MS)
  }

  protected async askFor(together: readonly Asking[]): Promise<void> {
    if (together.length === 1) return askAlone(together)
    const { statement, send, answers } = this.options
    const arrays = (together[0]?.values ?? []).map((_, at) =>
      toTextArray(together.map(({ values }) => values[at] ?? null)),
    )
    const byPlace = new Map<number, Row[]>()
    try {
      const { rows } = await send(statement.text, arrays, statement.name, (pid) => {
        for (const { asked } of together) asked.onStart?.(pid)
      })
      for (const [place, ...row] of rows) byPlace.set(Number(place), [...(byPlace.get(Number(place)) ?? []), row])
    } catch (error) {
      if (this.#concernsEverybody(error)) {
        for (const { reject } of together) reject(error)
        return
      }
      this.wasRefused()
      await askAlone(together)
      return
    }
    const unanswered = together.filter((waiting, at) => {
      const rows = byPlace.get(at + 1) ?? []
      const isAnswered = answers(rows)
      if (isAnswered) waiting.resolve(rows)
      return !isAnswered
    })
    // Callers who are in one another's way are better off alone.
    if (2 * unanswered.length > together.length) this.wasRefused()
    else this.wentWell()
    await askAlone(unanswered)
  }

  /** Whether each caller's own statement fails, or would have failed, the same way: asked again it would only wait again. */
  #concernsEverybody(error: unknown): boolean {
    if (isConnectionError(error)) return !this.options.isRead
    return isLockTimeout(error) || isCancelled(error)
  }
}
