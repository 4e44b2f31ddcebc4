// Written by Ledgerman: how a transaction begins, where the connections of its pool do not begin so.
import type { Pool } from 'pg'
import { ask } from './ask.js'
import { formsOf, type Limits } from './limits.js'

const beginTexts = new WeakMap<Limits, string>()

export function beginText(limits: Limits): string {
  const known = beginTexts.get(limits)
  if (known !== undefined) return known
  const { isolation, lockWaitMs, timeLimitMs } = limits
  const text = [
    `begin isolation level ${isolation}`,
    `set local lock_timeout = ${lockWaitMs}`,
    `set local statement_timeout = ${timeLimitMs}`,
    ...formsOf(limits).map(([name, value]) => `set local ${name} = '${value}'`),
  ].join('; ')
  beginTexts.set(limits, text)
  return text
}

/** Whether the connections of a pool begin with limits; asked for once. */
const begun = new WeakMap<Pool, WeakMap<Limits, boolean>>()

/** Whether each connection of a pool begins with these limits, whoever has said so: the pool's options, its role, its database. */
export function beginsWith(pool: Pool, limits: Limits): boolean | Promise<boolean> {
  return begun.get(pool)?.get(limits) ?? findOut(pool, limits)
}

async function findOut(pool: Pool, limits: Limits): Promise<boolean> {
  const rows = await ask(
    pool,
    `select pg_catalog.lower(name::text), reset_val from pg_catalog.pg_settings where context = 'user'`,
    [],
  )
  const begins = areAs(limits, new Map(rows.map(([name, value]) => [name, value])))
  const ofPool = begun.get(pool) ?? new WeakMap<Limits, boolean>()
  begun.set(pool, ofPool.set(limits, begins))
  return begins
}

function areAs(limits: Limits, settings: ReadonlyMap<string | null | undefined, string | null | undefined>): boolean {
  const { isolation, lockWaitMs, timeLimitMs } = limits
  const isAs = (name: string, value: string) => settings.get(name.toLowerCase()) === value
  return (
    isAs('default_transaction_isolation', isolation) &&
    isAs('lock_timeout', String(lockWaitMs)) &&
    isAs('statement_timeout', String(timeLimitMs)) &&
    formsOf(limits).every(([name, value]) => isAs(name, value))
  )
}
