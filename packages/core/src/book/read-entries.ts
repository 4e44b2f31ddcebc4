import { type EntryInfo, type EntryList, type EntrySummary, type ProblemCode } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import { toReceipt, toStepReceipt } from './receipt.js'
import { toBindReceipts, toShownStatement } from '../statement/shown-statement.js'
import { reversibilityOf } from '../mapping/reversibility.js'
import { writtenBeside } from '../mapping/side-writes.js'
import { bookedKey, bookedRow, type BookedImage, type BookedStatement } from './booked-row.js'
import { assertBookPrepared, entryConditions, type EntryFilter } from './entry-filter.js'
import { isEntryId, noSuchEntry } from './entry-id.js'
import type { FindMapping } from './find-mapping.js'
import { readRunReceipt, type RunRow } from './read-run-receipt.js'
import type { Target } from '../target/target.js'

/**
 * Lists entries, the newest first. Entry ids are UUIDs of version 7 (RFC 9562), so their order is that of time.
 *
 * @throws LedgermanProblem book-not-prepared, target-unavailable
 */
export async function listEntries(target: Target, filter: EntryFilter, findMapping: FindMapping): Promise<EntryList> {
  const { conditions, values } = entryConditions({ ...filter, digestKey: target.digestKey })
  const limit = `$${values.push(String(filter.limit + 1))}`
  // The page first: what is shown of an entry is put together for no other.
  const page = `select e.id from ledgerman.entry e${conditions.length > 0 ? ` where ${conditions.join(' and ')}` : ''} order by e.id desc limit ${limit}::integer`
  const text = `${SUMMARY_SQL} where e.id in (${page}) order by e.id desc`
  const rows = await readBook<EntryRow>(target, text, values)
  const entries = await Promise.all(rows.slice(0, filter.limit).map((row) => toSummary(row, findMapping)))
  return { entries, next: rows.length > filter.limit ? (entries.at(-1)?.id ?? null) : null }
}

/**
 * Reads one entry with its receipt.
 *
 * @throws LedgermanProblem not-found, book-not-prepared, target-unavailable
 */
export async function getEntry(target: Target, id: string, findMapping: FindMapping): Promise<EntryInfo> {
  const [row] = isEntryId(id) ? await readBook<WholeRow>(target, `${WHOLE_SQL} where e.id = $1`, [id]) : []
  if (!row) throw noSuchEntry(target, id)
  const summary = await toSummary(row, findMapping)
  const { run } = row
  const receipt = run
    ? await readRunReceipt(target, { ...row, run }, findMapping)
    : receiptOf(target, row, await mappingOf(row, findMapping))
  return { ...summary, detail: row.detail, reversedBy: await reversedBy(target, id), receipt }
}

/** The entries that put this one back, the newest first. */
async function reversedBy(target: Target, id: string): Promise<string[]> {
  const { rows } = await target.readBook(
    `select id from ledgerman.entry where run ? 'reverses' and run->'reverses' ? $1 and outcome = 'committed' order by id desc`,
    [id.toLowerCase()],
  )
  return rows.map(([each]) => each ?? '')
}

interface EntryRow {
  key: string[] | null
  id: string
  at: string
  actor: string
  outcome: 'committed' | 'refused'
  note: string | null
  matched: number | null
  changed: number | null
  problem: ProblemCode | null
  /** Where several steps were run. */
  run: RunRow | null
  statement: BookedStatement | null
}

/** What only an entry that is shown by itself needs: its images and binds can be of any size. */
type WholeRow = EntryRow & BookedImage & { binds: (string | null)[] | null; detail: string | null }

// Member by member: an entry's steps stand there as json, and one that jsonb does not take would end the whole list.
const entrySql = (more = '') => `
select pg_catalog.jsonb_build_object('id', e.id, 'at', to_char(e.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'), 'actor', e.actor,
  'outcome', e.outcome, 'note', e.note, 'key', e.key, 'matched', e.matched, 'changed', e.changed, 'problem', e.problem, 'run', e.run,
  'statement', to_jsonb(s)${more})
from ledgerman.entry e left join ledgerman.statement s on s.id = e.statement`
const SUMMARY_SQL = entrySql()
const WHOLE_SQL = entrySql(`, 'binds', e.binds, 'before', e.before, 'after', e.after, 'detail', e.detail`)

async function readBook<Row>(target: Target, text: string, values: string[]): Promise<Row[]> {
  await assertBookPrepared(target)
  try {
    const { rows } = await target.readBook(text, values)
    return rows.map(([json]) => JSON.parse(json ?? '') as Row)
  } catch (error) {
    throw target.explain(error)
  }
}

function mappingOf({ statement }: EntryRow, findMapping: FindMapping): Promise<Mapping | undefined> {
  return statement ? findMapping(statement.mapping, statement.revision) : Promise.resolve(undefined)
}

async function toSummary(row: EntryRow, findMapping: FindMapping): Promise<EntrySummary> {
  const mapping = await mappingOf(row, findMapping)
  const writes = row.run?.writes ?? []
  const only = writes.length === 1 ? writes[0] : undefined
  const reverses = row.run?.reverses?.length ?? 0
  return {
    id: row.id,
    at: row.at,
    actor: row.actor,
    outcome: row.outcome,
    problem: row.problem,
    transaction: row.run?.transaction ?? null,
    kind: row.run ? kindOfRun(row.run) : (row.statement?.kind ?? 'change'),
    mapping: row.statement?.mapping ?? only?.mapping ?? null,
    condition: only?.where ?? (reverses > 1 ? `${reverses} entries` : only && row.run?.job ? 'from a file' : null),
    key: row.key && bookedKey(row.key, row.statement, mapping),
    matched: row.matched,
    changed: row.outcome === 'committed' ? row.changed : 0,
    note: row.note,
  }
}

/** One step that was sent with its run is what the run is; more than one are a run, or a reversal where they put entries back. */
function kindOfRun({ pruned, reverses, writes = [] }: RunRow): EntrySummary['kind'] {
  if (pruned) return 'prune'
  const [only] = writes
  return writes.length === 1 && only ? only.kind : reverses ? 'reversal' : 'run'
}

function receiptOf(target: Target, row: WholeRow, mapping: Mapping | undefined) {
  const { statement } = row
  const header = {
    id: row.id,
    target: target.name,
    mode: 'commit' as const,
    revision: statement?.revision ?? null,
    actor: row.actor,
    note: row.note,
    startedAt: row.at,
  }
  if (!statement) return toReceipt(header, row.outcome, null, [], null)
  const set = mapping ? setProperties(mapping, row) : []
  const step = toStepReceipt(
    statement.kind,
    statement.mapping,
    toShownStatement(statement, toBindReceipts(statement.binds, row.binds ?? [])),
    {
      matched: row.matched,
      changed: row.changed,
      durationMs: null,
      rows: row.after || row.before ? [bookedRow(row, statement, mapping, (property) => set.includes(property))] : [],
    },
  )
  const reversible = row.outcome === 'committed' && mapping ? reversibilityOf(mapping, statement.kind, set) : null
  const receipt = toReceipt(header, row.outcome, null, [step], reversible)
  const beside = reversible === null || row.changed !== 1 || !mapping ? [] : writtenBeside(mapping, statement.kind, set)
  return beside.length === 0 ? receipt : { ...receipt, notShown: beside }
}

/** What the statement set: its binds that are properties. What finds the record has one too: a part of the key that was set has two. */
function setProperties(mapping: Mapping, { statement }: EntryRow): Property[] {
  const binds = (of: Property) => statement?.binds.filter(({ name }) => name === of.name).length ?? 0
  return mapping.properties.filter((property) => binds(property) > (property.key ? 1 : 0))
}
