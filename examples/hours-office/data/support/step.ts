// Written by Ledgerman: steps of a transaction: what they found and wrote.
import type { Row } from './ask.js'
import { CountMismatch, LockTimeout, RecordChanged, RowNotWritten, RuleBroken } from './errors.js'
import { expectCount, fits, type Expectation } from './expectation.js'
import { toGuard } from './record.js'
import type { Read } from './values.js'

/** What a step did: how many rows it matched and changed, and the first of them as it is now. */
export interface Step {
  matched: number
  changed: number
  row: Row
  guard: string | null
}

/** What a step was that did not run. */
export const SKIPPED: Step = { matched: 0, changed: 0, row: [], guard: null }

interface Expected {
  what: string
  expect: Expectation
  isKeyed: boolean
  /** How many rows fit, locked by others or not, where those that are locked are left out. */
  found?: number | undefined
}

function assertCount({ what, expect, isKeyed, found }: Expected, matched: number): void {
  if (found !== undefined && found > matched && !fits(expect, matched) && fits(expect, found))
    throw new LockTimeout(`${what}: ${found - matched} rows are held by others, and what is held is left out.`)
  expectCount(what, expect, matched, isKeyed)
}

/** What a load found: rows hold a record of `width` values, its guard, and how many there are in all where there can be several. */
export function loadedBy(rows: readonly Row[], expected: Expected & { width: number }): Step {
  const [row = []] = rows
  const matched = Number(row[expected.width + 1] ?? rows.length)
  assertCount(expected, matched)
  return { matched, changed: 0, row: row.slice(0, expected.width), guard: row[expected.width] ?? null }
}

/** The row that has these texts in these places, among those that a step locked: nobody can have changed it since. */
export function among(
  rows: readonly Row[],
  width: number,
  key: readonly (readonly [place: number, text: string | null])[],
): Row[] | undefined {
  const row = rows.find((each) => key.every(([place, text]) => text !== null && each[place] === text))
  return row && [row.slice(0, width + 1)]
}

interface WriteExpected extends Expected {
  /** How many values a record has. */
  width: number
  /** How many of them are given where it was written: none, where nobody reads them. */
  given?: number
  rules: readonly (readonly [that: string, otherwise: string])[]
  /** What is set, by name and place, and as what: to say what was changed meanwhile. */
  set: readonly (readonly [name: string, place: number, read: Read])[]
  yours: Readonly<Record<string, unknown>>
  loaded?: Row | undefined
  letter: string
}

/**
 * What a step wrote that writes one record: where `write` wrote nothing, `look` locks the row and tells why; an addition has none. Rows of both begin with the record and its
 * guard; then `write` gives the number of the rule that is broken, `look` whether the row may be written, and whether it would differ.
 */
export async function writtenOne(
  expected: WriteExpected & { write(): Promise<Row[]>; look?: () => Promise<Row[]> },
): Promise<Step> {
  const { what, width, given = width, write, look } = expected
  let rows = await write()
  if (rows.length === 0) {
    const [found] = look ? await look() : []
    assertCount(expected, found ? 1 : 0)
    if (!found) return SKIPPED
    if (found[width + 1] !== 't') throw changedBefore(expected, found, found[width])
    if (found[width + 2] !== 't')
      return { matched: 1, changed: 0, row: found.slice(0, width), guard: found[width] ?? null }
    // It could be written by now, and is locked.
    rows = await write()
    if (rows.length === 0) throw new RowNotWritten(`${what}: a record was found, and not written.`)
  }
  const [row = []] = rows
  assertCount(expected, rows.length)
  assertRule(expected, row[given + 1])
  return { matched: rows.length, changed: rows.length, row: row.slice(0, given), guard: row[given] ?? null }
}

/** What a step wrote: behind the values before stand thirteen flags, and behind those the values after, of which `touched` says the places. */
export function writtenBy(rows: readonly Row[], expected: WriteExpected & { touched: readonly number[] }): Step {
  const { what, width, touched } = expected
  const [row = []] = rows
  const [, , , , guardBefore = null, guardAfter = null, matched, changed, refused, unwritten, rule, , leavesOut] =
    row.slice(width, width + FLAGS)
  const counts = { matched: Number(matched ?? 0), changed: Number(changed ?? 0) }
  assertCount(expected, counts.matched)
  if (rows.length === 0) return { ...counts, row: [], guard: null }
  if (Number(refused) > 0) throw changedBefore(expected, row, guardBefore)
  if (leavesOut === 'f')
    throw new CountMismatch(
      `${what}: the condition leaves out none of ${counts.matched} rows.`,
      'some left out',
      counts.matched,
    )
  if (Number(unwritten) > 0) throw new RowNotWritten(`${what}: a record was found, and not written.`)
  assertRule(expected, rule)
  const now = row.slice(0, width)
  touched.forEach((place, at) => {
    if (row[width + 3] === 't') now[place] = row[width + FLAGS + at] ?? null
  })
  return { ...counts, row: now, guard: guardAfter ?? guardBefore }
}

/** What an addition or change gave; asked again where that is nothing, since somebody may have added the record meanwhile. @throws RowNotWritten */
export async function addedOrChanged(what: string, ask: () => Promise<Row[]>): Promise<Row[]> {
  const rows = await ask()
  if (rows.length > 0) return rows
  const again = await ask()
  if (again.length === 0) throw new RowNotWritten(`${what}: the record is not there, and was not added.`)
  return again
}

/** That a record is not as it was loaded, with what a step was to set of it. */
function changedBefore(
  { what, set, yours, loaded, letter }: WriteExpected,
  current: Row,
  guard: string | null | undefined,
): RecordChanged {
  const part = (from: Row) => Object.fromEntries(set.map(([name, place, read]) => [name, readOr(read, from[place])]))
  const message = `${what}: the record is not as it was loaded.`
  return new RecordChanged(message, part(loaded ?? []), yours, part(current), toGuard(guard, letter))
}

/** @throws RuleBroken where a number says which */
function assertRule({ rules }: WriteExpected, broken: string | null | undefined): void {
  if (broken === null || broken === undefined) return
  const [that, otherwise] = rules[Number(broken) - 1] ?? ['', '']
  throw new RuleBroken(otherwise, that)
}

function readOr(read: Read, text: string | null | undefined): unknown {
  return text === null || text === undefined ? null : read(text)
}

const FLAGS = 13
