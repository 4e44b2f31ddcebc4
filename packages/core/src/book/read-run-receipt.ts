import { setImmediate as yieldToOthers } from 'node:timers/promises'
import type { Receipt, RecordValues, StepKind, StepReceipt } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import { entryAddress, toBindReceipts, toRowReceipt, toShownStatement } from '../receipt/receipt.js'
import { roundedBy } from '../plan/roundings.js'
import { ROWS_OF_BLOCK_SQL } from '../statement/image-block-sql.js'
import type { ShortForm } from '../statement/statement.js'
import type { Target } from '../target/target.js'
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
  statement: {
    kind: StepKind
    mapping: string
    revision: number
    touched: string[]
    key_columns: string[]
    text: string
    short: ShortForm | null
    binds: { name: string; type: string }[]
  } | null
  images: Image[] | null
}

interface Image {
  key: string[] | null
  before: (string | null)[] | null
  after: (string | null)[] | null
}

const RECEIPT_ROWS = 100

const STEPS_AT_ONCE = 200

/** Puts a run's receipt together again from its steps and images. */
export async function readRunReceipt(
  target: Target,
  row: { id: string; at: string; actor: string; outcome: 'committed' | 'refused'; note: string | null; run: RunRow },
  findMapping: FindMapping,
): Promise<Receipt> {
  const { rows } = await target.read(STEPS_SQL, [row.id])
  const { run } = row
  const steps: StepReceipt[] = []
  for (const [json] of rows) {
    steps.push(await toStep(JSON.parse(json ?? '') as StepRow, findMapping))
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

async function toStep(row: StepRow, findMapping: FindMapping): Promise<StepReceipt> {
  const { statement } = row
  const mapping =
    statement && statement.mapping !== '' ? await findMapping(statement.mapping, statement.revision) : undefined
  return {
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
    rows: (row.images ?? []).map((image) => toRow(image, statement, mapping)),
  }
}

function toRow(image: Image, statement: StepRow['statement'], mapping: Mapping | undefined) {
  const names = statement?.touched ?? []
  const byColumn = (texts: (string | null)[] | null): RecordValues | null =>
    texts && Object.fromEntries(names.map((name, at) => [name, texts[at] ?? null]))
  const [before, after] = [byColumn(image.before), byColumn(image.after)]
  if (!mapping || image.key === null)
    return {
      key: Object.fromEntries((image.key ?? []).map((value, at) => [statement?.key_columns[at] ?? String(at), value])),
      before,
      after,
    }
  const touched = mapping.properties.filter(({ column }) => names.includes(column.name))
  const set = new Set(statement?.binds.map(({ name }) => name))
  const side = (values: RecordValues | null) =>
    values && touched.map(({ column }) => (values[column.name] ?? null) as string | null)
  // What was computed has no bind of its own name: only the version and what the database wrote stand beside it.
  const version = mapping.guard.by === 'version' ? mapping.guard.property : undefined
  return toRowReceipt(
    mapping,
    { key: image.key, touched, before: side(before), after: side(after) },
    (property) => set.has(property.name) || (property !== version && property.lockedBecause === null),
  )
}
