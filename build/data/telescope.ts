// Written by Ledgerman from the mapping telescope, revision 1, of public.telescope. Written again, it is
// the same: change the mapping, not this file.
import * as s from './support.js'

/** A record of public.telescope. Exact values (numbers with a point, moments) are strings. */
export interface Telescope {
  readonly code: string
  name: string
  apertureM: string
  status: 'operational' | 'maintenance' | 'retired'
  readonly rowVersion: number
}

/** What can be changed of it. */
export type TelescopeChanges = Partial<Pick<Telescope, 'name' | 'apertureM' | 'status'>>

/** What can be given to a new one; what is left out gets its column's default. */
export type TelescopeValues = Pick<Telescope, 'code' | 'name' | 'apertureM'> & Partial<Pick<Telescope, 'status'>>

/** What one is found by. */
export type TelescopeKey = Pick<Telescope, 'code'>

const READ: readonly (readonly [string, s.Read])[] = [
  ['code', s.readText],
  ['name', s.readText],
  ['apertureM', s.readText],
  ['status', s.readText],
  ['rowVersion', s.readNumber],
]

const WRITE = {
  code: s.writeText(null),
  name: s.writeText(null),
  apertureM: s.writeNumeric(5, 2),
  status: s.writeOneOf(['operational', 'maintenance', 'retired']),
  rowVersion: s.writeWhole(-2147483648n, 2147483647n, false),
} satisfies Record<keyof Telescope, s.Write>

const LOAD = `
select t.code, t.name, t.aperture_m, t.status, t.row_version, t.row_version::text
from public.telescope as t
where t.code = $1::text
limit 2`

/**
 * Loads one record by its key.
 *
 * @throws RecordMissing, RecordAmbiguous, ValueInvalid
 */
export async function loadTelescope(db: s.Db, key: TelescopeKey): Promise<s.Loaded<Telescope>> {
  const rows = await s.ask(db, LOAD, [s.writeValue(WRITE.code, key.code, 'code')])
  s.expectCount('telescope', 'one', rows.length, true)
  const [row = []] = rows
  return { record: s.readRecord<Telescope>(READ, row), guard: s.toGuard(row[5], 'v') }
}

const EQUALS: Readonly<Record<'code' | 'name' | 'apertureM' | 'status' | 'rowVersion', readonly [column: string, condition: (bind: string) => string]>> = {
  code: [`t.code`, (bind) => `t.code = ${bind}::text`],
  name: [`t.name`, (bind) => `t.name = ${bind}::text`],
  apertureM: [`t.aperture_m`, (bind) => `t.aperture_m = ${bind}::numeric`],
  status: [`t.status`, (bind) => `t.status operator(pg_catalog.=) ${bind}::public.telescope_status`],
  rowVersion: [`t.row_version`, (bind) => `t.row_version = ${bind}::integer`],
}

/**
 * Finds records that have these values; null stands for no value. In key order, at most `limit` of them.
 *
 * @throws ValueInvalid
 */
export async function findTelescope(
  db: s.Db,
  equal: Partial<Telescope> = {},
  { limit = 100 }: { limit?: number } = {},
): Promise<s.Loaded<Telescope>[]> {
  const values: (string | null)[] = [String(limit)]
  const conditions = s.namesOf<keyof typeof EQUALS>(equal, EQUALS).map((name) => {
    const [column, condition] = EQUALS[name]
    const value = s.writeValue(WRITE[name], equal[name], name)
    return value === null ? `${column} is null` : condition(`$${values.push(value)}`)
  })
  const text = `
select t.code, t.name, t.aperture_m, t.status, t.row_version, t.row_version::text
from public.telescope as t
where ${conditions.join(' and ') || 'true'}
order by t.code
limit $1::integer`
  const rows = await s.ask(db, text, values)
  return rows.map((row) => ({
    record: s.readRecord<Telescope>(READ, row),
    guard: s.toGuard(row[5], 'v'),
  }))
}

interface Settable {
  column: string
  /** The column as it is compared, and the value that is bound, as it is stored and as it is compared. */
  now: string
  stored: (bind: string) => string
  compared: (bind: string) => string
  /** Whether it is part of a unique index: then PostgreSQL locks the row harder. */
  isUnique: boolean
}

const SET: Readonly<Record<keyof TelescopeChanges, Settable>> = {
  name: {
    column: `name`,
    now: `t.name`,
    stored: (bind) => `${bind}::text`,
    compared: (bind) => `${bind}::text`,
    isUnique: false,
  },
  apertureM: {
    column: `aperture_m`,
    now: `t.aperture_m`,
    stored: (bind) => `${bind}::numeric(5,2)`,
    compared: (bind) => `${bind}::numeric(5,2)`,
    isUnique: false,
  },
  status: {
    column: `status`,
    now: `t.status`,
    stored: (bind) => `${bind}::public.telescope_status`,
    compared: (bind) => `${bind}::public.telescope_status`,
    isUnique: false,
  },
}

/** Locks the row, judges what was locked, and writes it where it differs. */
function changeText(set: readonly (keyof TelescopeChanges)[]): string {
  const binds = set.map((_, at) => `$${at + 3}`)
  const parts = set.map((name) => SET[name])
  const now = parts.map((part) => part.now).join(', ')
  const next = parts.map((part, at) => part.compared(binds[at] ?? '')).join(', ')
  const assignments = parts.map((part, at) => `${part.column} = ${part.stored(binds[at] ?? '')}`).join(', ')
  return `
with hit as (
  select t.code, t.name, t.aperture_m, t.status, t.row_version,
    coalesce(t.row_version = any ($2::integer[]), false) as guard_holds,
    pg_catalog.record_image_ne(row(${now}), row(${next})) as differs,
    t.row_version::text as guard
  from public.telescope as t
  where t.code = $1::text
  for ${parts.some((part) => part.isUnique) ? 'update' : 'no key update'}
), done as (
  update public.telescope as t
  set ${assignments}, row_version = hit.row_version + 1
  from hit
  where t.code = hit.code and hit.guard_holds and hit.differs
  returning t.code, t.name, t.aperture_m, t.status, t.row_version, t.row_version::text as guard, true as written
)
select hit.code, hit.name, hit.aperture_m, hit.status, hit.row_version,
  case when hit.guard_holds then 't' else 'f' end || 't' || case when hit.differs then 't' else 'f' end || case when done.written then 't' else 'f' end, hit.guard, done.guard, null::integer,
  done.code, done.name, done.aperture_m, done.status, done.row_version
from hit left join done on true`
}

/**
 * Changes the named properties of one record, where it is still as it was loaded. A record that has these values already is not written.
 *
 * @throws RecordMissing, RecordChanged, RuleBroken, ConstraintBroken, LockTimeout, ValueInvalid; OutcomeUnknown
 */
export async function changeTelescope(
  db: s.Db,
  loaded: s.Loaded<Telescope>,
  changes: TelescopeChanges,
): Promise<s.Written<Telescope>> {
  const set = s.namesOf<keyof TelescopeChanges>(changes, SET)
  if (set.length === 0) throw new s.ValueInvalid('changes', 'at least one property')
  const key = loaded.record
  const text = changeText(set)
  const values = [s.writeValue(WRITE.code, key.code, 'code'), s.guardArray(loaded.guard, 'v'), ...set.map((name) => s.writeValue(WRITE[name], changes[name], name))]
  return s.inTransaction(db, s.LIMITS, async (client) => {
    const rows = await s.ask(client, text, values)
    const result = judged(rows, loaded, partOf(changes, set))
    return result
  })
}

const { partOf } = s

/** What became of a change: its row holds the record before, a verdict, both guards, a broken rule, and the record after. */
function judged(rows: s.Row[], loaded: s.Loaded<Telescope>, yours: Record<string, unknown>): s.Written<Telescope> {
  s.expectCount('telescope', 'one', rows.length, true)
  const [row = []] = rows
  const before = s.readRecord<Telescope>(READ, row)
  const [guardHolds, , differs, written] = row[5] ?? ''
  const guard = s.toGuard(row[6], 'v')
  if (guardHolds !== 't') {
    const names = Object.keys(yours)
    const [was, is] = [partOf(loaded.record, names), partOf(before, names)]
    throw new s.RecordChanged('telescope: the record is not as it was loaded.', was, yours, is, guard)
  }
  if (differs !== 't') return { record: before, guard, matched: 1, changed: 0 }
  if (written !== 't') throw new s.RowNotWritten('telescope: the record was found, and not written.')
  
  const after = s.readRecord<Telescope>(READ, row, 9)
  return { record: after, guard: s.toGuard(row[7], 'v'), matched: 1, changed: 1 }
}

/**
 * Replaces every property that can be set. What was there and is not named cannot be lost: the type asks for all.
 *
 * @throws as changeTelescope
 */
export function replaceTelescope(
  db: s.Db,
  loaded: s.Loaded<Telescope>,
  values: Pick<Telescope, 'name' | 'apertureM' | 'status'>,
): Promise<s.Written<Telescope>> {
  const missing = Object.keys(SET).filter((name) => !Object.hasOwn(values, name))
  if (missing.length > 0) throw new s.ValueInvalid(missing.join(', '), 'a value: a replacement leaves nothing out')
  return changeTelescope(db, loaded, values)
}

const ADD: Readonly<Record<keyof TelescopeValues, readonly [column: string, stored: (bind: string) => string]>> = {
  code: [`code`, (bind) => `${bind}::text`],
  name: [`name`, (bind) => `${bind}::text`],
  apertureM: [`aperture_m`, (bind) => `${bind}::numeric(5,2)`],
  status: [`status`, (bind) => `${bind}::public.telescope_status`],
}

/**
 * Adds one record.
 *
 * @throws RuleBroken, ConstraintBroken, LockTimeout, ValueInvalid; OutcomeUnknown
 */
export async function addTelescope(db: s.Db, given: TelescopeValues): Promise<s.Written<Telescope>> {
  const set = s.namesOf<keyof TelescopeValues>(given, ADD)
  const parts = set.map((name) => ADD[name])
  const columns = parts.map(([column]) => column).join(', ')
  const binds = parts.map(([, stored], at) => stored(`$${at + 1}`)).join(', ')
  const text = `
with done as (
  insert into public.telescope as t ${set.length > 0 ? `(${columns}) values (${binds})` : 'default values'}
  returning t.code, t.name, t.aperture_m, t.status, t.row_version, t.row_version::text as guard, true as written
)
select done.guard, null::integer, done.code, done.name, done.aperture_m, done.status, done.row_version from done`
  const values = [...set.map((name) => s.writeValue(WRITE[name], given[name], name))]
  return s.inTransaction(db, s.LIMITS, async (client) => {
    const rows = await s.ask(client, text, values)
    const [row] = rows
    if (!row) throw new s.RowNotWritten('telescope: the record was not added: a trigger kept it out.')
    
    const result = { record: s.readRecord<Telescope>(READ, row, 2), guard: s.toGuard(row[0], 'v'), matched: 1, changed: 1 }
    return result
  })
}

const REMOVE = `
with hit as (
  select t.code, t.name, t.aperture_m, t.status, t.row_version,
    coalesce(t.row_version = any ($2::integer[]), false) as guard_holds, t.row_version::text as guard
  from public.telescope as t
  where t.code = $1::text
  for update
), done as (
  delete from public.telescope as t
  using hit
  where t.code = hit.code and hit.guard_holds
  returning true as written
)
select hit.code, hit.name, hit.aperture_m, hit.status, hit.row_version, hit.guard_holds, done.written, hit.guard
from hit left join done on true`

/**
 * Removes one record, where it is still as it was loaded.
 *
 * @returns the record as it was.
 * @throws RecordMissing, RecordChanged, ConstraintBroken, LockTimeout; OutcomeUnknown
 */
export async function removeTelescope(db: s.Db, loaded: s.Loaded<Telescope>): Promise<s.Written<Telescope>> {
  const key = loaded.record
  const values = [s.writeValue(WRITE.code, key.code, 'code'), s.guardArray(loaded.guard, 'v')]
  return s.inTransaction(db, s.LIMITS, async (client) => {
    const rows = await s.ask(client, REMOVE, values)
    s.expectCount('telescope', 'one', rows.length, true)
    const [row = []] = rows
    const record = s.readRecord<Telescope>(READ, row)
    const guard = s.toGuard(row[7], 'v')
    if (row[5] !== 't')
      throw new s.RecordChanged('telescope: the record is not as it was loaded.', { ...loaded.record }, {}, { ...record }, guard)
    if (row[6] !== 't') throw new s.RowNotWritten('telescope: the record was found, and not removed.')
    const result = { record, guard: null, matched: 1, changed: 1 }
    return result
  })
}
