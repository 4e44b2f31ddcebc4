import type pg from 'pg'
import { emitCode, resolvePlan, type Mapping, type Target } from '@ledgerman/core'
import { proofTools } from '@ledgerman/service'
import type { Hand } from '../bench-table.js'
import { CALLERS, compare, type Ratio, type Way } from '../compare.js'
import { BEGIN_BOUNDED, changeByHand, changeByHandWithAudit, loadByHand } from '../hand-written.js'
import { fill, pairOf, transferByHand, transferDefinition } from './transfers.js'

/** What the bench calls of the code that is written for `allocation` and the transfer. */
interface WrittenCode {
  loadAllocation(pool: pg.Pool, key: { id: number }): Promise<Loaded>
  changeAllocation(pool: pg.Pool, loaded: Loaded, changes: { hours: string }): Promise<Loaded>
  transfer(pool: pg.Pool, params: { from: number; to: number; hours: string }): Promise<unknown>
  configureBook?(settings: { actor: string; digestKey: string }): void
}

interface Loaded {
  record: { id: number; rowVersion: number }
  guard: string | null
}

/** Written code and hand-written code that do the same: a load, a change with the version checked, a transfer. */
export interface WrittenComparisons {
  load(): Promise<Ratio[]>
  change(): Promise<Ratio[]>
  booked(): Promise<Ratio[]>
  transfer(): Promise<Ratio[]>
}

export async function writtenCode(
  target: Target,
  mapping: Mapping,
  pool: pg.Pool,
  hand: Hand,
): Promise<WrittenComparisons> {
  const { transaction, ...definition } = transferDefinition
  const plan = await resolvePlan(target, definition, transaction, 1, () => Promise.resolve(mapping))
  const compile = async (isBooked: boolean) =>
    (await proofTools.load(emitCode([mapping], [{ ...plan, name: transaction }], isBooked))) as unknown as WrittenCode
  const [code, booked] = [await compile(false), await compile(true)]
  booked.configureBook?.({ actor: 'bench', digestKey: 'bench' })

  /** A change of the caller's next row, from what was loaded of it last, as a program does that has just shown it. */
  const changing = (by: WrittenCode): Way['once'] => {
    const known = new Map<number, Loaded>()
    return async (caller) => {
      const id = hand.next(caller)
      const version = hand.version(id)
      const last = known.get(id)
      const loaded =
        last?.record.rowVersion === version ? last : { record: { id, rowVersion: version }, guard: `v${version}` }
      known.set(id, await by.changeAllocation(pool, loaded, { hours: `${version % 400}.25` }))
      hand.changed(id)
    }
  }
  const byHand =
    (change: (id: number, version: number, hours: string) => Promise<unknown>): Way['once'] =>
    async (caller) => {
      const id = hand.next(caller)
      const version = hand.version(id)
      await change(id, version, `${version % 400}.25`)
      hand.changed(id)
    }
  const longer = { rounds: 16, callers: CALLERS }
  return {
    load: () =>
      compare(
        [
          { name: 'hand-written', once: (caller) => loadByHand(pool, hand.next(caller)) },
          { name: 'written by Ledgerman', once: (caller) => code.loadAllocation(pool, { id: hand.next(caller) }) },
        ],
        longer,
      ),
    change: () =>
      compare(
        [
          { name: 'hand-written, no audit', once: byHand((...change) => changeByHand(pool, ...change, true)) },
          { name: 'written by Ledgerman', once: changing(code) },
        ],
        longer,
      ),
    booked: () =>
      compare(
        [
          {
            name: 'hand-written, equal audit',
            once: byHand((...change) => changeByHandWithAudit(pool, ...change, BEGIN_BOUNDED)),
          },
          { name: 'written by Ledgerman, with its entry', once: changing(booked) },
        ],
        longer,
      ),
    transfer: async () => {
      await fill(pool)
      const once = (by: WrittenCode) => () => {
        const [from, to] = pairOf(1_000)
        return by.transfer(pool, { from: Number(from), to: Number(to), hours: '0.01' })
      }
      return compare(
        [
          { name: 'hand-written, no audit', once: () => transferByHand(pool, ...pairOf(1_000), false, BEGIN_BOUNDED) },
          { name: 'written by Ledgerman', once: once(code) },
          {
            name: 'hand-written, equal audit',
            once: () => transferByHand(pool, ...pairOf(1_000), true, BEGIN_BOUNDED),
          },
          { name: 'written by Ledgerman, with its entry', once: once(booked) },
        ],
        { rounds: 8 },
      )
    },
  }
}
