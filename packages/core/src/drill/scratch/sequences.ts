import type { Queryable } from '../../sessions/queryable.js'
import type { Target } from '../../target/target.js'
import { toTextArray } from '../../sessions/text-array.js'
import { isLoss } from './lost-scratch.js'
import { someNames } from './some-names.js'

/** Where the sequences of a scratch database begin, as three arrays: their names, their last numbers, and whether those were given. */
export interface SequenceStart {
  values: [names: string, lasts: string, called: string]
  /** What is not as it is on the target. */
  notes: string[]
}

/**
 * Reads where the target's sequences are, whoever uses them: a column's own, one that a default or a function names, or none.
 *
 * @returns null where there are none.
 */
export async function readSequences(target: Target, scratch: Queryable): Promise<SequenceStart | null> {
  const { rows: own } = await scratch.query(NAMES_SQL)
  if (own.length === 0) return null
  const { rows: theirs } = await target.read(STATES_SQL)
  const known = new Map(theirs.map(([name, mayRead, last]) => [name ?? '', { mayRead: mayRead === 't', last }]))
  const isHidden = (name: string) => known.get(name)?.mayRead === false
  const numbered = await numberedBy(
    scratch,
    own.flatMap(([name]) => (isHidden(name ?? '') ? [name ?? ''] : [])),
  )
  const names: string[] = []
  const lasts: string[] = []
  const called: string[] = []
  const unknown: string[] = []
  for (const [name, first] of own) {
    const state = known.get(name ?? '')
    // What the role may not read of a sequence it may often read in the column that the sequence numbers.
    const last = isHidden(name ?? '') ? await lastIn(target, numbered.get(name ?? '') ?? []) : (state?.last ?? null)
    if (isHidden(name ?? '') && last === null) unknown.push(name ?? '')
    names.push(name ?? '')
    lasts.push(last ?? first ?? '1')
    called.push(last === null ? 'f' : 't')
  }
  return { values: [toTextArray(names), toTextArray(lasts), toTextArray(called)], notes: notesOf(unknown) }
}

function notesOf(unknown: readonly string[]): string[] {
  if (unknown.length === 0) return []
  const start = unknown.length === 1 ? 'One sequence starts' : `${unknown.length} sequences start`
  return [
    `${start} again, since the target's role may not read where ${unknown.length === 1 ? 'it is' : 'they are'}: ${someNames(unknown)}.`,
  ]
}

interface Numbered {
  table: string
  column: string
}

/** The columns that sequences number, by the sequence. */
async function numberedBy(scratch: Queryable, names: readonly string[]): Promise<Map<string, Numbered[]>> {
  const found = new Map<string, Numbered[]>()
  if (names.length === 0) return found
  const { rows } = await scratch.query(COLUMNS_SQL, [toTextArray(names)])
  for (const [name = '', table, column] of rows) {
    const columns = found.get(name ?? '') ?? []
    found.set(name ?? '', [...columns, { table: table ?? '', column: column ?? '' }])
  }
  return found
}

/** The highest number in these columns; null where there is none, or it cannot be read. */
async function lastIn(target: Target, columns: readonly Numbered[]): Promise<string | null> {
  let most: bigint | null = null
  for (const { table, column } of columns) {
    const found = await target.read(`select pg_catalog.max(${column})::text from ${table}`).catch((error: unknown) => {
      if (isLoss(error)) throw target.explain(error)
      return null
    })
    const text = found?.rows[0]?.[0]
    if (typeof text !== 'string' || !/^-?\d{1,19}$/.test(text)) continue
    if (most === null || BigInt(text) > most) most = BigInt(text)
  }
  return most === null ? null : String(most)
}

/** Has the sequences begin where the target's are. */
export async function startSequences(scratch: Queryable, { values }: SequenceStart): Promise<void> {
  await scratch.query(SET_SQL, values, 'drill_sequences')
}

const NAMES_SQL = `
select pg_catalog.format('%I.%I', n.nspname, c.relname), s.seqstart::text
from pg_catalog.pg_sequence s join pg_catalog.pg_class c on c.oid = s.seqrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where n.nspname <> 'ledgerman' order by 1`

const STATES_SQL = `
select pg_catalog.format('%I.%I', n.nspname, c.relname), pg_catalog.has_sequence_privilege(c.oid, 'usage, select'),
  case when pg_catalog.has_sequence_privilege(c.oid, 'usage, select') then pg_catalog.pg_sequence_last_value(c.oid) end::text
from pg_catalog.pg_sequence s join pg_catalog.pg_class c on c.oid = s.seqrelid join pg_catalog.pg_namespace n on n.oid = c.relnamespace
where n.nspname <> 'ledgerman'`

const SET_SQL = `
select pg_catalog.setval(given.name::regclass, given.last::bigint, given.called::boolean)
from rows from (pg_catalog.unnest($1::text[]), pg_catalog.unnest($2::text[]), pg_catalog.unnest($3::text[])) as given(name, last, called)`

/** The columns that own a sequence, or whose default takes numbers from it. */
const COLUMNS_SQL = `
with given as materialized (
  select name, name::pg_catalog.regclass as sequence from pg_catalog.unnest($1::text[]) as asked(name)
), used as (
  select g.name, d.refobjid as relation, d.refobjsubid as place from given g join pg_catalog.pg_depend d on d.objid = g.sequence
  where d.classid = 'pg_catalog.pg_class'::regclass and d.refclassid = 'pg_catalog.pg_class'::regclass and d.refobjsubid > 0
  union
  select g.name, d.adrelid, d.adnum from given g join pg_catalog.pg_depend p on p.refobjid = g.sequence join pg_catalog.pg_attrdef d on d.oid = p.objid
  where p.classid = 'pg_catalog.pg_attrdef'::regclass and p.refclassid = 'pg_catalog.pg_class'::regclass
)
select u.name, pg_catalog.format('%I.%I', n.nspname, c.relname), pg_catalog.quote_ident(a.attname)
from used u join pg_catalog.pg_class c on c.oid = u.relation join pg_catalog.pg_namespace n on n.oid = c.relnamespace
  join pg_catalog.pg_attribute a on a.attrelid = u.relation and a.attnum = u.place`
