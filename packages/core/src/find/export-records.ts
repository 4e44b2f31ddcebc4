import type { RecordValues } from '@ledgerman/contract'
import type { FindMappingByName } from '../mapping/links.js'
import type { Mapping } from '../mapping/mapping.js'
import { buildExport } from '../statement/build-find.js'
import type { Target } from '../target/target.js'
import { valuesOf } from './run-find.js'
import { readFindRequest, type FindRequest } from './find-request.js'
import { readFoundRow } from './found-row.js'

/** Rows fetched at a time: enough to make a round trip worth it, few enough to hold. */
const ROWS_AT_A_TIME = 500

/** What an export begins with, and its rows in batches as the reader takes them. */
export interface Export {
  /** Paths of the properties, in order. */
  columns: string[]
  batches: AsyncGenerator<RecordValues[], void, undefined>
}

/**
 * Reads all records that fit, as they are at one moment, a batch at a time: never more than two batches are held.
 *
 * @throws LedgermanProblem too-many-requests; and as `findRecords`, from here or from the batches.
 */
export async function exportRecords(
  target: Target,
  mapping: Mapping,
  request: FindRequest,
  findMapping: FindMappingByName,
  signal?: AbortSignal,
): Promise<Export> {
  const read = await readFindRequest(mapping, request, false, findMapping)
  const find = buildExport(mapping, read.shape, read.links)
  const { statement } = find
  const values = valuesOf(statement, read.bind, null, 0)
  const leave = target.beginExport()
  return { columns: find.columns.map(({ path }) => path.join('.')), batches: batches() }

  async function* batches() {
    const queue = new Handover<RecordValues[]>()
    const reading = target
      .inReader(signal, async (session) => {
        await session.query('begin')
        try {
          await session.query(statement.text, values)
          for (;;) {
            const { rows } = await session.query(`fetch ${ROWS_AT_A_TIME} from found`)
            if (rows.length === 0 || !(await queue.put(rows.map((row) => readFoundRow(find, row))))) break
            if (rows.length < ROWS_AT_A_TIME) break
          }
        } finally {
          await session.query('rollback')
        }
      })
      .then(
        () => queue.end(),
        (error: unknown) => queue.fail(target.explain(error, { mapping, slots: statement.slots, statement })),
      )
    try {
      for (let batch = await queue.take(); batch !== undefined; batch = await queue.take()) yield batch
    } finally {
      queue.close()
      await reading
      leave()
    }
  }
}

/** Hands batches from one side to the other, one ahead at most: the side that puts waits for the one that takes. */
class Handover<T> {
  #waiting: T | undefined
  #failure: unknown
  #isOver = false
  #wakeTaker: (() => void) | undefined
  #wakePutter: (() => void) | undefined

  /** @returns false where nobody takes any more. */
  async put(item: T): Promise<boolean> {
    while (this.#waiting !== undefined && !this.#isOver) await new Promise<void>((wake) => (this.#wakePutter = wake))
    if (this.#isOver) return false
    this.#waiting = item
    this.#wakeTaker?.()
    return true
  }

  async take(): Promise<T | undefined> {
    while (this.#waiting === undefined && !this.#isOver) await new Promise<void>((wake) => (this.#wakeTaker = wake))
    const item = this.#waiting
    this.#waiting = undefined
    this.#wakePutter?.()
    if (item === undefined && this.#failure !== undefined) throw this.#failure
    return item
  }

  end(): void {
    this.#isOver = true
    this.#wakeTaker?.()
  }

  fail(error: unknown): void {
    this.#failure = error
    this.end()
  }

  close(): void {
    this.#isOver = true
    this.#wakePutter?.()
  }
}
