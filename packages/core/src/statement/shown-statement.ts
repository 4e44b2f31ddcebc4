import type { BindReceipt, StepReceipt } from '@ledgerman/contract'
import { digestText } from '../values/digest.js'
import type { ShortForm, Slot } from './statement.js'

/** A statement as a receipt shows it: in full, and in short. */
export function toShownStatement(
  { text, short }: { text: string; short?: ShortForm | null | undefined },
  binds: BindReceipt[],
): Pick<StepReceipt, 'statement' | 'binds' | 'short'> {
  if (!short) return { statement: text, binds }
  const own: BindReceipt[] = []
  for (const [at, number] of short.binds.entries()) {
    const bind = binds[number - 1]
    if (bind) own.push({ ...bind, position: at + 1 })
  }
  return { statement: text, binds, short: { statement: short.text, binds: own, around: short.around } }
}

/** The binds as a receipt shows them: a sensitive value only as its digest. */
export function toBindReceipts(
  slots: readonly Pick<Slot, 'name' | 'type'>[],
  shown: readonly (string | null)[],
): BindReceipt[] {
  return slots.map(({ name, type }, at) => ({ position: at + 1, name, type, value: shown[at] ?? null }))
}

/** The values of these slots as they may be shown and kept. */
export function showableBinds(
  slots: readonly Slot[],
  values: readonly (string | null)[],
  digestKey: Buffer,
): (string | null)[] {
  return slots.map(({ sensitive }, at) => {
    const value = values[at] ?? null
    return sensitive && value !== null ? digestText(digestKey, value) : value
  })
}
