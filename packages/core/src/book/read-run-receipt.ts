import { setImmediate as yieldToOthers } from 'node:timers/promises'
import { entryAddress, type Receipt, type StepKind, type StepReceipt } from '@ledgerman/contract'
import type { Property } from '../mapping/mapping.js'
import { writtenBeside } from '../mapping/side-writes.js'
import { toBindReceipts, toShownStatement } from '../statement/shown-statement.js'
import { roundedBy } from '../plan/roundings.js'
import { ROWS_OF_BLOCK_SQL } from '../statement/image-block-sql.js'
import type { Target } from '../target/target.js'
import { bookedRow, type BookedImage, type BookedStatement } from './booked-row.js'
import type { FindMapping } from './find-mapping.js'

/** A step that writes, as the list of entries tells it. */
export interface BookedWrite {
  kind: StepKind
  mapping: string
  where: string | null
}

/** What an entry of several steps says of the run as a whole. */
export interface RunRow {
  transaction: string | null
  revision: number | null
  isolation: string
  attempts: number
  durationMs: number | null
  startedAt: string
  reversible: Receipt['reversible']
  definitions?: Record<string, number>
  rounded?: Receipt['rounded']
  /** What was pruned, where it did that: entries with ids before this one. */
  pruned?: { before: string; at: string; entries: number; images: number }
  /** Of a change of many records: the job that it was. */
  job?: string
  /** The entries that it put back. */
  reverses?: string[]
  /** Of steps that were sent with their run: what they write, and by which condition. */
  writes?: BookedWrite[]
}

interface StepRow {
  no: number
  name: string | null
  binds: (string | null)[] | null
  expected: string
  matched: number | null
  changed: number | null
  skipped: boolean
  duration_ms: number | null
  statement: BookedStatement | null
  images: BookedImage[] | null
}

const RECEIPT_ROWS = 100

const STEPS_AT_ONCE = 200

/** Puts a run's receipt together again from its steps and images. */
export async function readRunReceipt(
  target: Target,
  row: { id: string; at: string; actor: string; outcome: 'committed' | 'refused'; note: string | null; run: RunRow },
  findMapping: FindMapping,
): Promise<Receipt> {
  const { rows } = await target.readBook(STEPS_SQL, [row.id])
  const { run } = row
  const steps: StepReceipt[] = []
  const beside = new Set<string>()
  for (const [json] of rows) {
    const { step, unsaid } = await toStep(JSON.parse(json ?? '') as StepRow, findMapping)
    steps.push(step)
    if (row.outcome === 'committed') unsaid.forEach((words) => beside.add(words))
    // A reversal of thousands of entries has as many steps: others are let in between.
    if (steps.length % STEPS_AT_ONCE === 0) await yieldToOthers()
  }
  return {
    id: row.id,
    target: target.name,
    mode: 'commit',
    outcome: row.outcome,
    transaction: run.transaction,
    revision: run.revision,
    actor: row.actor,
    note: row.note,
    startedAt: run.startedAt,
    durationMs: run.durationMs,
    attempts: run.attempts,
    isolation: run.isolation,
    replayed: false,
    steps,
    rehearsal: null,
    entry: entryAddress(target.name, row.id),
    reversible: run.reversible,
    ...(run.reverses ? { reverses: run.reverses } : {}),
    ...(run.definitions ? { definitions: run.definitions } : {}),
    ...(beside.size > 0 ? { notShown: [...beside] } : {}),
    ...(row.outcome === 'committed' ? roundedBy(steps, run.rounded) : {}),
  }
}

const STEPS_SQL = `
select (to_jsonb(p) - 'statement' || jsonb_build_object('statement', to_jsonb(s), 'images',
  (select jsonb_agg(to_jsonb(i)) from (
    select key, before, after from ledgerman.image where entry = p.entry and step = p.no
    union all
    select r.key, r.before, r.after from ledgerman.image_block b cross join lateral ${ROWS_OF_BLOCK_SQL} as r where b.entry = p.entry and b.step = p.no
    limit ${RECEIPT_ROWS}) i)))::text
from ledgerman.step p left join ledgerman.statement s on s.id = p.statement
where p.entry = $1 order by p.no`

/** A step's receipt, and what the database may have written beside its rows. */
async function toStep(row: StepRow, findMapping: FindMapping): Promise<{ step: StepReceipt; unsaid: string[] }> {
  const { statement } = row
  const mapping =
    statement && statement.mapping !== '' ? await findMapping(statement.mapping, statement.revision) : undefined
  const set = new Set(statement?.binds.map(({ name }) => name))
  // What was computed has no bind of its own name: only the version and what the database wrote stand beside it.
  const version = mapping?.guard.by === 'version' ? mapping.guard.property : undefined
  const isSet = (property: Property) =>
    set.has(property.name) || (property !== version && property.lockedBecause === null)
  const step: StepReceipt = {
    no: row.no,
    kind: statement?.kind ?? 'sql',
    mapping: statement?.mapping ? statement.mapping : null,
    as: row.name,
    skipped: row.skipped,
    ...toShownStatement(statement ?? { text: '' }, toBindReceipts(statement?.binds ?? [], row.binds ?? [])),
    expected: row.expected,
    matched: row.matched,
    changed: row.changed,
    durationMs: row.duration_ms,
    rows: (row.images ?? []).map((image) => bookedRow(image, statement, mapping, isSet)),
  }
  const isWritten = mapping !== undefined && (row.changed ?? 0) > 0
  // What was to be added and was there already, was changed.
  const kind = step.kind === 'add' && step.rows.some(({ before }) => before !== null) ? 'change' : step.kind
  return { step, unsaid: isWritten ? writtenBeside(mapping, kind, mapping.properties.filter(isSet)) : [] }
}
