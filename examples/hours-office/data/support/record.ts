// Written by Ledgerman: one record: guards, keys, what may be given.
import { RecordAmbiguous, RecordChanged, RecordMissing, RowNotWritten, ValueInvalid, type DataError } from './errors.js'

/** What a load gives: the record, and what tells later whether it is still as it was. */
export interface Loaded<T> {
  record: T
  guard: string | null
}

/** What became of one record. */
export interface Written<T> extends Loaded<T> {
  matched: number
  changed: number
}

/** That a record is not as it was loaded, with what was to be changed of it. */
export function changedSince(
  what: string,
  loaded: object,
  yours: Readonly<Record<string, unknown>>,
  current: object,
  guard: string | null,
): RecordChanged {
  const names = Object.keys(yours)
  const [was, is] = [partOf(loaded, names), partOf(current, names)]
  return new RecordChanged(`${what}: the record is not as it was loaded.`, was, yours, is, guard)
}

/** That another number of records than one was found by a key, which is told as far as it may be. */
export function notOne(what: string, matched: number, key: Readonly<Record<string, unknown>>): DataError {
  if (matched > 1) return new RecordAmbiguous(`${what}: ${matched} records fit, and one was meant.`, 'one', matched)
  const told = Object.keys(key).map((name) => `${name} ${String(key[name])}`)
  return new RecordMissing(
    `${what}: there is no ${told.length > 0 ? `record with ${told.join(', ')}` : 'such record'}.`,
  )
}

/** Does something to one record. Row security may let it be read and not be written: then it is no missing one. */
export async function orHidden<T>(what: string, load: () => Promise<unknown>, does: () => Promise<T>): Promise<T> {
  try {
    return await does()
  } catch (error) {
    if (!(error instanceof RecordMissing)) throw error
    const isThere = await load().then(
      () => true,
      () => false,
    )
    throw isThere
      ? new RowNotWritten(`${what}: the record was found, and a policy keeps it from being written.`)
      : error
  }
}

/** The names of `values` that have one, null too, each of which has to be one of `known`. @throws ValueInvalid */
export function namesOf<Name extends string>(values: object, known: Readonly<Record<Name, unknown>>): Name[] {
  return Object.keys(values).filter((name): name is Name => {
    if (!Object.hasOwn(known, name)) throw new ValueInvalid(name, `one of ${Object.keys(known).join(', ')}`)
    return (values as Record<string, unknown>)[name] !== undefined
  })
}

/** What is looked for: a condition without a value is not left out. @throws ValueInvalid */
export function assertAsked(values: object): void {
  for (const [name, value] of Object.entries(values))
    if (value === undefined) throw new ValueInvalid(name, 'a value, or null for none')
}

/** The parts of a record that are named. */
export function partOf(record: object, names: readonly string[]): Record<string, unknown> {
  return Object.fromEntries(names.map((name) => [name, (record as Record<string, unknown>)[name]]))
}

/** What a guard says, without the letter of its kind; null where it is of another kind, and so fits nothing. */
export function guardText(guard: string | null, letter: string): string | null {
  return guard?.startsWith(letter) && /^.[0-9a-f-]+$/.test(guard) ? guard.slice(1) : null
}

/** The same as an array, for `= any`. */
export function guardArray(guard: string | null, letter: string): string {
  return `{${guardText(guard, letter) ?? ''}}`
}

export function toGuard(text: string | null | undefined, letter: string): string | null {
  return letter === '' || text === null || text === undefined ? null : letter + text
}
