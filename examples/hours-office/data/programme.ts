// Written by Ledgerman from the mapping programme, revision 1, of public.programme. Written again, it is
// the same: change the mapping, not this file.
import * as s from './support.js'

/** A record of public.programme. Exact values (numbers with a point, moments) are strings. */
export interface Programme {
  readonly id: number
  readonly code: string
  title: string
  semester: string
  leadId: number
  hoursGranted: string
  hoursLeft: string
  priority: number
  contactEmail: string | null
  tags: (string | null)[]
  settings: { readout: 'slow' | 'fast'; binning: number }
  readonly rowVersion: number
  readonly updatedAt: string
}

/** What can be changed of it. */
export type ProgrammeChanges = Partial<Pick<Programme, 'title' | 'semester' | 'leadId' | 'hoursGranted' | 'hoursLeft' | 'priority' | 'contactEmail' | 'tags' | 'settings'>>

/** What can be given to a new one; what is left out gets its column's default. */
export type ProgrammeValues = Pick<Programme, 'code' | 'title' | 'semester' | 'leadId' | 'hoursGranted' | 'hoursLeft'> & Partial<Pick<Programme, 'priority' | 'contactEmail' | 'tags' | 'settings' | 'updatedAt'>>

/** What one is found by. */
export type ProgrammeKey = Pick<Programme, 'code'>

const LIMITS: s.Limits = { ...s.LIMITS, forms: ['DateStyle', 'TimeZone'] }

const READ = {
  id: s.readNumber,
  code: s.readText,
  title: s.readText,
  semester: s.readText,
  leadId: s.readNumber,
  hoursGranted: s.readText,
  hoursLeft: s.readText,
  priority: s.readNumber,
  contactEmail: s.readText,
  tags: s.readArray(s.readText, ','),
  settings: s.readJson,
  rowVersion: s.readNumber,
  updatedAt: s.readTimestamptz,
} satisfies Record<keyof Programme, s.Read>

const WRITE = {
  id: s.writeWhole(-2147483648n, 2147483647n, false),
  code: s.writeText(null),
  title: s.writeText(null),
  semester: s.writeText(null),
  leadId: s.writeWhole(-2147483648n, 2147483647n, false),
  hoursGranted: s.writeNumeric(6, 2),
  hoursLeft: s.writeNumeric(6, 2),
  priority: s.writeWhole(-32768n, 32767n, false),
  contactEmail: s.writeText(null),
  tags: s.writeArray(s.writeText(null), ',', false),
  settings: s.writeJson,
  rowVersion: s.writeWhole(-2147483648n, 2147483647n, false),
  updatedAt: s.writeText(null),
} satisfies Record<keyof Programme, s.Write>

/** The record that a row holds, from its place on. */
function recordOf(row: s.Row, at = 0): Programme {
  return {
    id: s.read(READ.id, row[at]),
    code: s.read(READ.code, row[at + 1]),
    title: s.read(READ.title, row[at + 2]),
    semester: s.read(READ.semester, row[at + 3]),
    leadId: s.read(READ.leadId, row[at + 4]),
    hoursGranted: s.read(READ.hoursGranted, row[at + 5]),
    hoursLeft: s.read(READ.hoursLeft, row[at + 6]),
    priority: s.read(READ.priority, row[at + 7]),
    contactEmail: s.read(READ.contactEmail, row[at + 8]),
    tags: s.read(READ.tags, row[at + 9]),
    settings: s.read(READ.settings, row[at + 10]),
    rowVersion: s.read(READ.rowVersion, row[at + 11]),
    updatedAt: s.read(READ.updatedAt, row[at + 12]),
  }
}

/** The record that a row begins with, and its guard. */
function loadedFrom(row: s.Row): s.Loaded<Programme> {
  return { record: recordOf(row), guard: s.toGuard(row[11], 'v') }
}

const LOAD = `
select t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, case when not pg_catalog.isfinite(t.updated_at) then t.updated_at::text when t.updated_at < '0001-01-01 00:00:00Z' then pg_catalog.replace(pg_catalog.replace(pg_catalog.to_json(t.updated_at at time zone 'UTC') operator(pg_catalog.#>>) '{}', 'T', ' '), ' BC', '+00 BC') else (pg_catalog.to_json(t.updated_at at time zone 'UTC') operator(pg_catalog.#>>) '{}') || 'Z' end
from public.programme as t
where t.code = $1::text`

/**
 * Loads one record by its key.
 *
 * @throws RecordMissing, RecordAmbiguous, ValueInvalid
 */
export async function loadProgramme(db: s.Db, key: ProgrammeKey): Promise<s.Loaded<Programme>> {
  const rows = await s.ask(db, LOAD, [s.writeKey(WRITE.code, key.code, 'code')])
  if (rows.length !== 1) throw s.notOne('programme', rows.length, { code: key.code })
  const [row = []] = rows
  return loadedFrom(row)
}

const EQUALS: Readonly<Record<'id' | 'code' | 'title' | 'semester' | 'leadId' | 'hoursGranted' | 'hoursLeft' | 'priority' | 'contactEmail' | 'tags' | 'settings' | 'rowVersion' | 'updatedAt', readonly [column: string, condition: (bind: string) => string]>> = {
  id: [`t.id`, (bind) => `t.id = ${bind}::integer`],
  code: [`t.code`, (bind) => `t.code = ${bind}::text`],
  title: [`t.title`, (bind) => `t.title = ${bind}::text`],
  semester: [`t.semester`, (bind) => `t.semester = ${bind}::text`],
  leadId: [`t.lead_id`, (bind) => `t.lead_id = ${bind}::integer`],
  hoursGranted: [`t.hours_granted`, (bind) => `t.hours_granted = ${bind}::numeric`],
  hoursLeft: [`t.hours_left`, (bind) => `t.hours_left = ${bind}::numeric`],
  priority: [`t.priority`, (bind) => `t.priority = ${bind}::smallint`],
  contactEmail: [`t.contact_email`, (bind) => `t.contact_email = ${bind}::text`],
  tags: [`t.tags`, (bind) => `t.tags operator(pg_catalog.=) ${bind}::text[]`],
  settings: [`t.settings`, (bind) => `t.settings = ${bind}::jsonb`],
  rowVersion: [`t.row_version`, (bind) => `t.row_version = ${bind}::integer`],
  updatedAt: [`t.updated_at`, (bind) => `t.updated_at = ${bind}::timestamp with time zone`],
}

/**
 * Finds records that have these values; null stands for no value. In key order, at most `limit` of them.
 *
 * @throws ValueInvalid
 */
export async function findProgramme(
  db: s.Db,
  equal: Partial<Programme> = {},
  { limit = 100 }: { limit?: number } = {},
): Promise<s.Loaded<Programme>[]> {
  s.assertAsked(equal)
  const values: (string | null)[] = [String(limit)]
  const conditions = s.namesOf<keyof typeof EQUALS>(equal, EQUALS).map((name) => {
    const [column, condition] = EQUALS[name]
    const value = s.writeValue(WRITE[name], equal[name], name)
    return value === null ? `${column} is null` : condition(`$${values.push(value)}`)
  })
  const text = `
select t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, case when not pg_catalog.isfinite(t.updated_at) then t.updated_at::text when t.updated_at < '0001-01-01 00:00:00Z' then pg_catalog.replace(pg_catalog.replace(pg_catalog.to_json(t.updated_at at time zone 'UTC') operator(pg_catalog.#>>) '{}', 'T', ' '), ' BC', '+00 BC') else (pg_catalog.to_json(t.updated_at at time zone 'UTC') operator(pg_catalog.#>>) '{}') || 'Z' end
from public.programme as t
where ${conditions.join(' and ') || 'true'}
order by t.code
limit $1::integer`
  const rows = await s.ask(db, text, values)
  return rows.map(loadedFrom)
}

const FIND_1 = `
select t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, case when not pg_catalog.isfinite(t.updated_at) then t.updated_at::text when t.updated_at < '0001-01-01 00:00:00Z' then pg_catalog.replace(pg_catalog.replace(pg_catalog.to_json(t.updated_at at time zone 'UTC') operator(pg_catalog.#>>) '{}', 'T', ' '), ' BC', '+00 BC') else (pg_catalog.to_json(t.updated_at at time zone 'UTC') operator(pg_catalog.#>>) '{}') || 'Z' end
from public.programme as t
where (((t.hours_left < $1::numeric) and (($2::text is null) or (t.semester = $2::text))) and exists (select 1 from public.block as t1 where t1.programme_id = t.id and (t1.state operator(pg_catalog.=) $3::public.block_state)))
order by t.hours_left, t.code
limit $4::integer`

export interface ProgrammeShortOfHoursParams {
  least: string
  semester?: string | null
}

/**
 * Finds the records of which this is true, in the order hoursLeft, code, at most `limit` of them:
 *
 *     hoursLeft < :least and (:semester is null or semester = :semester) and exists(blocks where state = 'planned')
 *
 * @throws ValueInvalid
 */
export async function findProgrammeShortOfHours(
  db: s.Db,
  params: ProgrammeShortOfHoursParams,
  { limit = 100 }: { limit?: number } = {},
): Promise<s.Loaded<Programme>[]> {
  s.assertNames(params, ['least', 'semester'])
  const p = {
    least: s.given(s.writeValue(s.writeNumeric(null, null), params.least, 'least'), 'least'),
    semester: s.writeValue(s.writeText(null), params.semester, 'semester'),
  }
  const values = [p.least, p.semester, 'planned', String(limit)]
  const rows = await s.ask(db, FIND_1, values)
  return rows.map(loadedFrom)
}

interface Settable {
  column: string
  /** The value that is bound, as it is stored; and whether it is another than the row has. */
  stored: (bind: string) => string
  differs: (bind: string) => string
}

const SET: Readonly<Record<keyof ProgrammeChanges, Settable>> = {
  title: {
    column: `title`,
    stored: (bind) => `${bind}::text`,
    differs: (bind) => `t.title is distinct from ${bind}::text`,
  },
  semester: {
    column: `semester`,
    stored: (bind) => `${bind}::text`,
    differs: (bind) => `t.semester is distinct from ${bind}::text`,
  },
  leadId: {
    column: `lead_id`,
    stored: (bind) => `${bind}::integer`,
    differs: (bind) => `t.lead_id is distinct from ${bind}::integer`,
  },
  hoursGranted: {
    column: `hours_granted`,
    stored: (bind) => `${bind}::numeric(6,2)`,
    differs: (bind) => `t.hours_granted is distinct from ${bind}::numeric(6,2)`,
  },
  hoursLeft: {
    column: `hours_left`,
    stored: (bind) => `${bind}::numeric(6,2)`,
    differs: (bind) => `t.hours_left is distinct from ${bind}::numeric(6,2)`,
  },
  priority: {
    column: `priority`,
    stored: (bind) => `${bind}::smallint`,
    differs: (bind) => `t.priority is distinct from ${bind}::smallint`,
  },
  contactEmail: {
    column: `contact_email`,
    stored: (bind) => `${bind}::text`,
    differs: (bind) => `t.contact_email is distinct from ${bind}::text`,
  },
  tags: {
    column: `tags`,
    stored: (bind) => `${bind}::text[]`,
    differs: (bind) => `pg_catalog.record_image_ne(row(t.tags), row(${bind}::text[]))`,
  },
  settings: {
    column: `settings`,
    stored: (bind) => `${bind}::jsonb`,
    differs: (bind) => `pg_catalog.record_image_ne(row(t.settings), row(${bind}::jsonb))`,
  },
}

/** The parts of a statement that sets these properties. */
function partsOf(set: readonly (keyof ProgrammeChanges)[]) {
  const parts = set.map((name, at) => ({ ...SET[name], bind: `$${at + 3}` }))
  return {
    assignments: parts.map(({ column, stored, bind }) => `${column} = ${stored(bind)}`).join(', '),
    differs: `(${parts.map(({ differs, bind }) => differs(bind)).join(' or ')})`,
  }
}

/** Writes the row where it is still as it was loaded, and would differ. */
const updateText = s.madeOnce((set: readonly (keyof ProgrammeChanges)[]) => {
  const { assignments, differs } = partsOf(set)
  return `
update public.programme as t
set ${assignments}, row_version = t.row_version + 1
where t.code = $1::text and t.row_version = $2::integer and ${differs}
returning t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, t.updated_at, case when not coalesce((t.hours_left <= t.hours_granted), false) then 1 end`
})

/** Locks the row that was not written, and tells why: whether it is as it was loaded, and would differ. */
function currentText(set: readonly (keyof ProgrammeChanges)[]): string {
  return `
select t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, t.updated_at, t.row_version = $2::integer, ${partsOf(set).differs}
from public.programme as t
where t.code = $1::text
for no key update`
}

/**
 * Changes the named properties of one record, where it is still as it was loaded. A record that has these values already is not written.
 *
 * @throws RecordMissing, RecordChanged, RuleBroken, ConstraintBroken, LockTimeout, ValueInvalid; OutcomeUnknown
 */
export async function changeProgramme(
  db: s.Db,
  loaded: s.Loaded<Programme>,
  changes: ProgrammeChanges,
): Promise<s.Written<Programme>> {
  const set = s.namesOf<keyof ProgrammeChanges>(changes, SET)
  if (set.length === 0) throw new s.ValueInvalid('changes', 'at least one property')
  const key = loaded.record
  const text = updateText(set)
  const values = [s.writeKey(WRITE.code, key.code, 'code'), s.guardText(loaded.guard, 'v'), ...set.map((name) => s.writeValue(WRITE[name], changes[name], name))]
  return s.inTransaction(db, LIMITS, async (client) => {
    const first = await s.ask(client, text, values)
    if (first.length > 0) return written(first)
    const unchanged = judged(await s.ask(client, currentText(set), values), loaded, s.partOf(changes, set))
    if (unchanged) return unchanged
    // It could be written by now, and is locked.
    const second = await s.ask(client, text, values)
    if (second.length === 0) throw new s.RowNotWritten('programme: the record was found, and not written.')
    return written(second)
  })
}

/** The row as it was written, and the first rule that it breaks. */
function written(rows: s.Row[]): s.Written<Programme> {
  s.expectCount('programme', 'one', rows.length, true)
  const [row = []] = rows
  assertRules(row[13])
  const { record, guard } = loadedFrom(row)
  return { record, guard, matched: 1, changed: 1 }
}

/** Why a row was not written: null where it is as it was loaded, and differs. */
function judged(rows: s.Row[], loaded: s.Loaded<Programme>, yours: Record<string, unknown>): s.Written<Programme> | null {
  if (rows.length !== 1) throw s.notOne('programme', rows.length, { code: loaded.record.code })
  const [row = []] = rows
  const current = loadedFrom(row)
  if (row[13] !== 't') throw s.changedSince('programme', loaded.record, yours, current.record, current.guard)
  return row[14] === 't' ? null : { ...current, matched: 1, changed: 0 }
}

/** What has to be true of every record that is written, and what is said where it is not. */
const RULES: readonly (readonly [that: string, otherwise: string])[] = [
  ['hoursLeft <= hoursGranted', 'A programme cannot have more hours left than it was granted.'],
]

/** @throws RuleBroken */
function assertRules(broken: string | null | undefined): void {
  if (broken === null || broken === undefined) return
  const [that, otherwise] = RULES[Number(broken) - 1] ?? ['', '']
  throw new s.RuleBroken(otherwise, that)
}

/**
 * Replaces every property that can be set. What was there and is not named cannot be lost: the type asks for all.
 *
 * @throws as changeProgramme
 */
export async function replaceProgramme(
  db: s.Db,
  loaded: s.Loaded<Programme>,
  values: Pick<Programme, 'title' | 'semester' | 'leadId' | 'hoursGranted' | 'hoursLeft' | 'priority' | 'contactEmail' | 'tags' | 'settings'>,
): Promise<s.Written<Programme>> {
  const missing = Object.keys(SET).filter((name) => values[name as keyof typeof values] === undefined)
  if (missing.length > 0) throw new s.ValueInvalid(missing.join(', '), 'a value: a replacement leaves nothing out')
  return changeProgramme(db, loaded, values)
}

const ADD: Readonly<Record<keyof ProgrammeValues, readonly [column: string, stored: (bind: string) => string]>> = {
  code: [`code`, (bind) => `${bind}::text`],
  title: [`title`, (bind) => `${bind}::text`],
  semester: [`semester`, (bind) => `${bind}::text`],
  leadId: [`lead_id`, (bind) => `${bind}::integer`],
  hoursGranted: [`hours_granted`, (bind) => `${bind}::numeric(6,2)`],
  hoursLeft: [`hours_left`, (bind) => `${bind}::numeric(6,2)`],
  priority: [`priority`, (bind) => `${bind}::smallint`],
  contactEmail: [`contact_email`, (bind) => `${bind}::text`],
  tags: [`tags`, (bind) => `${bind}::text[]`],
  settings: [`settings`, (bind) => `${bind}::jsonb`],
  updatedAt: [`updated_at`, (bind) => `${bind}::timestamp with time zone`],
}

const insertText = s.madeOnce((set: readonly (keyof ProgrammeValues)[]) => {
  const parts = set.map((name) => ADD[name])
  const columns = parts.map(([column]) => column).join(', ')
  const binds = parts.map(([, stored], at) => stored(`$${at + 1}`)).join(', ')
  const added = `
with done as (
  insert into public.programme as t ${set.length > 0 ? `(${columns}) values (${binds})` : 'default values'}
  returning t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, t.updated_at, t.row_version::text as guard, true as written
)`
  const told = `
select done.guard, case when done.written then case when not coalesce((done.hours_left <= done.hours_granted), false) then 1 end end, done.id, done.code, done.title, done.semester, done.lead_id, done.hours_granted, done.hours_left, done.priority, done.contact_email, done.tags, done.settings, done.row_version, done.updated_at from done`
  return added + told
})

/**
 * Adds one record.
 *
 * @throws RuleBroken, ConstraintBroken, LockTimeout, ValueInvalid; OutcomeUnknown
 */
export async function addProgramme(db: s.Db, given: ProgrammeValues): Promise<s.Written<Programme>> {
  const set = s.namesOf<keyof ProgrammeValues>(given, ADD)
  const text = insertText(set)
  const values = [...set.map((name) => s.writeValue(WRITE[name], given[name], name))]
  return s.inTransaction(db, LIMITS, async (client) => {
    const rows = await s.ask(client, text, values)
    const [row] = rows
    if (!row) throw new s.RowNotWritten('programme: the record was not added: a trigger kept it out.')
    assertRules(row[1])
    const result = { record: recordOf(row, 2), guard: s.toGuard(row[0], 'v'), matched: 1, changed: 1 }
    return result
  })
}

const REMOVED = `
with hit as (
  select t.id, t.code, t.title, t.semester, t.lead_id, t.hours_granted, t.hours_left, t.priority, t.contact_email, t.tags, t.settings, t.row_version, t.updated_at,
    coalesce(t.row_version = any ($2::integer[]), false) as guard_holds, t.row_version::text as guard
  from public.programme as t
  where t.code = $1::text
  for update
), done as (
  delete from public.programme as t
  using hit
  where t.code = hit.code and hit.guard_holds
  returning true as written
)`

const TOLD = `
select hit.id, hit.code, hit.title, hit.semester, hit.lead_id, hit.hours_granted, hit.hours_left, hit.priority, hit.contact_email, hit.tags, hit.settings, hit.row_version, hit.updated_at, hit.guard_holds, done.written, hit.guard
from hit left join done on true`

/**
 * Removes one record, where it is still as it was loaded.
 *
 * @returns the record as it was.
 * @throws RecordMissing, RecordChanged, ConstraintBroken, LockTimeout; OutcomeUnknown
 */
export async function removeProgramme(db: s.Db, loaded: s.Loaded<Programme>): Promise<s.Written<Programme>> {
  const key = loaded.record
  const values = [s.writeKey(WRITE.code, key.code, 'code'), s.guardArray(loaded.guard, 'v')]
  return s.inTransaction(db, LIMITS, async (client) => {
    const rows = await s.ask(client, REMOVED + TOLD, values)
    if (rows.length !== 1) throw s.notOne('programme', rows.length, { code: key.code })
    const [row = []] = rows
    const record = recordOf(row)
    const guard = s.toGuard(row[15], 'v')
    if (row[13] !== 't')
      throw new s.RecordChanged('programme: the record is not as it was loaded.', { ...loaded.record }, {}, { ...record }, guard)
    if (row[14] !== 't') throw new s.RowNotWritten('programme: the record was found, and not removed.')
    const result = { record, guard: null, matched: 1, changed: 1 }
    return result
  })
}
