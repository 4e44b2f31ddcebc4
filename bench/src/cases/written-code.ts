import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from 'node:fs'
import { tmpdir } from 'node:os'
import { dirname, join } from 'node:path'
import pg from 'pg'
import ts from 'typescript'
import type { CodeFile } from '@ledgerman/contract'
import { emitCode, resolvePlan, type Mapping, type Target } from '@ledgerman/core'
import type { Hand } from '../bench-table.js'
import { CALLERS, compare, type Ratio, type Way } from '../compare.js'
import {
  BEGIN_BOUNDED,
  changeHours,
  changeHoursAlone,
  changeHoursWithAudit,
  loadAllocation,
  transferHours,
  type Shown,
} from '../hand-written-access.js'
import { fill, pairOf, transferDefinition } from './transfers.js'

/** What the bench calls of the code that is written for `allocation` and the transfer. */
interface WrittenCode {
  loadAllocation(pool: pg.Pool, key: { id: number }): Promise<Loaded>
  changeAllocation(pool: pg.Pool, loaded: Loaded, changes: { hours: string }): Promise<Loaded>
  transfer(pool: pg.Pool, params: { from: number; to: number; hours: string }): Promise<unknown>
  configureBook?(settings: { actor: string; digestKey: string }): void
  POOL_SETTINGS: pg.PoolConfig
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
  bookedTransfer(): Promise<Ratio[]>
  /** The same where the connections of the pool begin with bounded waits. */
  alone: Pick<WrittenComparisons, 'change' | 'booked' | 'transfer' | 'bookedTransfer'>
}

export async function writtenCode(
  target: Target,
  mapping: Mapping,
  pool: pg.Pool,
  url: string,
  hand: Hand,
): Promise<WrittenComparisons> {
  const { transaction, ...definition } = transferDefinition
  const plan = await resolvePlan(target, definition, transaction, 1, () => Promise.resolve(mapping))
  const compile = async (isBooked: boolean) =>
    (await load(emitCode([mapping], [{ ...plan, name: transaction }], isBooked))) as WrittenCode
  const [code, booked] = [await compile(false), await compile(true)]
  booked.configureBook?.({ actor: 'bench', digestKey: 'bench' })

  /** A change of the caller's next row, from what it was when it was changed last, as a program does that has just shown it. */
  const changing = <T>(
    change: (last: T, hours: string) => Promise<T>,
    versionOf: (last: T) => number,
    shown: (id: number, version: number) => T,
  ): Way['once'] => {
    const known = new Map<number, T>()
    return async (caller) => {
      const id = hand.next(caller)
      const version = hand.version(id)
      const last = known.get(id)
      const now = last !== undefined && versionOf(last) === version ? last : shown(id, version)
      known.set(id, await change(now, `${version % 400}.25`))
      hand.changed(id)
    }
  }
  const byHand = (change: (last: Shown, hours: string) => Promise<Shown>): Way['once'] =>
    changing(
      change,
      (last) => last.rowVersion,
      (id, rowVersion) => ({ id, rowVersion }),
    )
  const written = (by: WrittenCode, on: pg.Pool): Way['once'] =>
    changing<Loaded>(
      (last, hours) => by.changeAllocation(on, last, { hours }),
      (last) => last.record.rowVersion,
      (id, rowVersion) => ({ record: { id, rowVersion }, guard: `v${rowVersion}` }),
    )
  // Many short slots: what else the machine does in one falls on its neighbours as well.
  const longer = { rounds: 48, slotMs: 250, callers: CALLERS }
  const settled = new pg.Pool({ connectionString: url, max: CALLERS, ...code.POOL_SETTINGS })
  settled.on('error', () => undefined)

  const change = (name: string, on: pg.Pool, hand: Way['once']) => () =>
    compare(
      [
        { name, once: hand },
        { name: 'written by Ledgerman', once: written(code, on) },
      ],
      longer,
    )
  const book = (on: pg.Pool, begin: string) => () =>
    compare(
      [
        {
          name: 'hand-written, equal audit',
          once: byHand((last, hours) => changeHoursWithAudit(on, last, hours, begin)),
        },
        { name: 'written by Ledgerman, with its entry', once: written(booked, on) },
      ],
      longer,
    )
  const transfers = (on: pg.Pool, begin: string, isAudited: boolean) => async () => {
    await fill(pool)
    const asked = () => {
      const [from, to] = pairOf(1_000)
      return { from: Number(from), to: Number(to), hours: '0.01' }
    }
    const by = isAudited ? booked : code
    return compare(
      [
        {
          name: `hand-written, ${isAudited ? 'equal' : 'no'} audit`,
          once: () => transferHours(on, asked(), { begin, isAudited }),
        },
        { name: `written by Ledgerman${isAudited ? ', with its entry' : ''}`, once: () => by.transfer(on, asked()) },
      ],
      longer,
    )
  }
  return {
    load: () =>
      compare(
        [
          { name: 'hand-written', once: (caller) => loadAllocation(pool, hand.next(caller)) },
          { name: 'written by Ledgerman', once: (caller) => code.loadAllocation(pool, { id: hand.next(caller) }) },
        ],
        longer,
      ),
    change: change(
      'hand-written, no audit',
      pool,
      byHand((last, hours) => changeHours(pool, last, hours)),
    ),
    booked: book(pool, BEGIN_BOUNDED),
    transfer: transfers(pool, BEGIN_BOUNDED, false),
    bookedTransfer: transfers(pool, BEGIN_BOUNDED, true),
    alone: {
      change: change(
        'hand-written, no audit: one statement',
        settled,
        byHand((last, hours) => changeHoursAlone(settled, last, hours)),
      ),
      booked: book(settled, 'begin'),
      transfer: transfers(settled, 'begin', false),
      bookedTransfer: transfers(settled, 'begin', true),
    },
  }
}

/** Compiles the code into modules as a program has them, the hand-written code among them, and gives what its index exports. */
async function load(files: readonly CodeFile[]): Promise<unknown> {
  const folder = mkdtempSync(join(tmpdir(), 'ledgerman-bench-code-'))
  const compilerOptions = { module: ts.ModuleKind.ESNext, target: ts.ScriptTarget.ES2023 }
  try {
    writeFileSync(join(folder, 'package.json'), '{ "type": "module" }')
    for (const { path, text } of files) {
      const file = join(folder, path.replace(/\.ts$/, '.js'))
      mkdirSync(dirname(file), { recursive: true })
      writeFileSync(file, ts.transpileModule(text, { fileName: path, compilerOptions }).outputText)
    }
    return await import(join(folder, 'index.js'))
  } finally {
    rmSync(folder, { recursive: true })
  }
}
