import { OWN_NAMES } from '../../sessions/session-settings.js'
import type { Seal, SealFinding, Verification } from '@ledgerman/contract'
import { GrowingTree, leafHash } from '@ledgerman/seal'
import type { KeyObject } from 'node:crypto'
import type { OwnSession } from '../../sessions/own-session.js'
import type { Rows } from '../../sessions/queryable.js'
import type { Target } from '../../target/target.js'
import { CONTENT_COLUMNS_SQL, EntryContents, type ContentRow } from './entry-content.js'
import { prunedBefore } from './pruned.js'
import { SEAL_COLUMNS_SQL, toKeptSeal } from './read-seals.js'
import { SealWatch } from './seal-watch.js'
import { IS_STRAY_SQL } from './stray-entries.js'

/** Places that are read at a time, and how many are compared at a time. */
const PLACES_AT_A_TIME = 5_000
const COMPARED_AT_ONCE = 100

const MOST_FINDINGS = 1_000
const STATEMENT_LIMIT_MS = 30 * 60_000

/**
 * Compares the whole book with what was sealed: every entry with the hash that its place has, the hashes with every seal's root, every
 * seal with the key. Reads at one moment, a batch at a time.
 *
 * @param outside a seal that was kept elsewhere, with which the book has to begin.
 * @throws LedgermanProblem book-not-prepared, cancelled, target-unavailable
 */
export async function verifyBook(
  target: Target,
  publicKey: KeyObject,
  outside: Seal | undefined,
  signal: AbortSignal,
): Promise<Verification> {
  await target.assertBook()
  const session = await target.openOwnSession(STATEMENT_LIMIT_MS, 'verification', {
    ...OWN_NAMES,
    default_transaction_read_only: 'on',
  })
  const onAbort = () => void target.giveUp(session)
  signal.addEventListener('abort', onAbort, { once: true })
  try {
    await session.query('begin isolation level repeatable read, read only')
    return await new BookVerification(session, publicKey, outside).run(signal)
  } catch (error) {
    throw target.explain(error)
  } finally {
    signal.removeEventListener('abort', onAbort)
    await session.close()
  }
}

class BookVerification {
  readonly #findings: SealFinding[] = []
  #count = 0
  #compared = 0
  #pruned = 0
  readonly #tree = new GrowingTree()
  /** The place that comes next. */
  #next = 0

  constructor(
    readonly session: OwnSession,
    readonly publicKey: KeyObject,
    readonly outside: Seal | undefined,
  ) {}

  async run(signal: AbortSignal): Promise<Verification> {
    const seals = new SealWatch(this.publicKey, this.outside, (finding) => this.#tell(finding))
    await this.#readSeals(seals)
    await this.#readPlaces(seals, signal)
    seals.end(this.#next)
    const { stray, unsealed } = await this.#readUnsealed()
    for (const id of stray)
      this.#tell({
        entry: id,
        what: 'inserted',
        detail: 'It was put in past Ledgerman: nothing of that id and moment can have been on its way.',
      })
    return {
      ok: this.#count === 0,
      entries: this.#compared,
      pruned: this.#pruned,
      unsealed,
      seal: seals.last ?? null,
      findings: this.#findings,
      count: this.#count,
    }
  }

  #tell(finding: SealFinding): void {
    this.#count++
    if (this.#findings.length < MOST_FINDINGS) this.#findings.push(finding)
  }

  async #readSeals(watch: SealWatch): Promise<void> {
    await this.session.query(
      `declare seals cursor for select ${SEAL_COLUMNS_SQL} from ledgerman.seal s order by s.entries`,
    )
    watch.more = async () => {
      const { rows } = await this.session.query('fetch 1000 from seals')
      return rows.map((row) => toKeptSeal(row).seal)
    }
    await watch.begin()
  }

  async #readPlaces(seals: SealWatch, signal: AbortSignal): Promise<void> {
    const bound = await prunedBefore(this.session)
    const contents = new EntryContents(this.session)
    const read = (from: number) => this.session.query(PLACES_SQL, [String(from), String(from + PLACES_AT_A_TIME)])
    let ahead = read(0)
    for (let from = 0; ;) {
      const { rows } = await ahead
      from = rows.length > 0 ? from + PLACES_AT_A_TIME : await this.#placeFrom(from)
      if (from < 0) break
      // The next ones are read while these are hashed.
      ahead = read(from)
      ahead.catch(() => undefined)
      for (let at = 0; at < rows.length; at += COMPARED_AT_ONCE) {
        signal.throwIfAborted()
        const part = rows.slice(at, at + COMPARED_AT_ONCE)
        const there = part.filter((row) => row[3] !== null)
        const texts = await contents.of(there.map((row) => row.slice(3) as unknown as ContentRow))
        const contentOf = new Map(there.map((row, place) => [row[1], texts[place] ?? '']))
        for (const row of part) await this.#place(row, contentOf, bound.before, seals)
      }
    }
    if (this.#pruned !== bound.entries)
      this.#tell({
        entry: null,
        what: 'missing',
        detail: `Of the entries from before the last pruning ${this.#pruned} are gone; the book says that ${bound.entries} were pruned.`,
      })
  }

  /** The first place that is taken from there on; negative where there is none. */
  async #placeFrom(from: number): Promise<number> {
    const { rows } = await this.session.query(
      'select coalesce(min(l.no), -1) from ledgerman.leaf l where l.no >= $1::bigint',
      [String(from)],
    )
    return Number(rows[0]?.[0] ?? -1)
  }

  /** Compares one place. */
  async #place(
    [noText, idText, hashText]: Rows['rows'][number],
    contentOf: ReadonlyMap<string | null | undefined, string>,
    prunedBelow: string | null,
    seals: SealWatch,
  ): Promise<void> {
    const [no, id, hash] = [Number(noText), idText ?? '', Buffer.from(hashText ?? '', 'hex')]
    if (this.#next < no) {
      // No root can hold behind that; what follows is still compared one by one.
      seals.breakOff()
      const range = this.#next === no - 1 ? `place ${no - 1}` : `places ${this.#next} to ${no - 1}`
      this.#tell({ entry: null, what: 'missing', detail: `Nothing stands at ${range} in the book any more.` })
      this.#next = no
    }
    if (this.#next > no) {
      this.#tell({ entry: id, what: 'inserted', detail: `Place ${no} in the book is another entry's already.` })
      return
    }
    this.#next++
    const content = contentOf.get(idText)
    if (content === undefined) {
      if (prunedBelow !== null && id < prunedBelow) this.#pruned++
      else
        this.#tell({ entry: id, what: 'missing', detail: `It stood at place ${no} in the book, and was not pruned.` })
    } else {
      this.#compared++
      if (!leafHash(content).equals(hash)) {
        this.#tell({
          entry: id,
          what: 'altered',
          detail: 'It, its images or its statements do not hold what was sealed.',
        })
      }
    }
    this.#tree.add(hash)
    await seals.added(this.#tree, id)
  }

  async #readUnsealed(): Promise<{ stray: string[]; unsealed: number }> {
    const { rows } = await this.session.query(`select e.id, (${IS_STRAY_SQL})::text from ledgerman.entry e
where not exists (select from ledgerman.leaf l where l.entry = e.id) order by e.id limit 100000`)
    const stray = rows.filter(([, isStray]) => isStray === 'true').map(([id]) => id ?? '')
    return { stray, unsealed: rows.length - stray.length }
  }
}

const PLACES_SQL = `
select l.no, l.entry, pg_catalog.encode(l.hash, 'hex'), content.*
from ledgerman.leaf l left join ledgerman.entry e on e.id = l.entry
  left join lateral (select ${CONTENT_COLUMNS_SQL}) as content on e.id is not null
where l.no >= $1::bigint and l.no < $2::bigint order by l.no, l.entry`
