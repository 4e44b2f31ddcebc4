import { LedgermanProblem, type StepKind } from '@ledgerman/contract'
import type { FindMapping } from '../../book/find-mapping.js'
import type { Mapping, Property } from '../../mapping/mapping.js'
import { sideWrites } from '../../mapping/side-writes.js'
import type { Target } from '../../target/target.js'

/** One step of an entry that is to be put back. */
export interface UndoStep {
  entry: string
  /** The step's number; 0 where the entry is that of one record. */
  no: number
  kind: Extract<StepKind, 'change' | 'replace' | 'add' | 'remove'>
  mapping: Mapping
  /** The columns that the images hold, in order. */
  touched: readonly string[]
}

/** What an entry cannot give back although most of it can be: told in the receipt. */
export interface Gap {
  words: string
}

interface StepRow {
  entry: string
  no: number
  kind: StepKind
  mapping: string
  revision: number
  touched: string[]
  text: string
  images: string | null
}

/**
 * Reads what entries did, the newest step first.
 *
 * @throws LedgermanProblem not-reversible, by name, where one of them cannot be put back; not-found
 */
export async function readUndoSteps(
  target: Target,
  entries: readonly string[],
  findMapping: FindMapping,
): Promise<{ steps: UndoStep[]; gaps: Gap[] }> {
  const { rows } = await target.readBook(STEPS_SQL, [`{${entries.join(',')}}`])
  const read = rows.map(([json]) => JSON.parse(json ?? '') as StepRow)
  const steps: UndoStep[] = []
  const gaps = new Set<string>()
  const lost: string[] = []
  for (const row of read) {
    const mapping = row.mapping === '' ? undefined : await findMapping(row.mapping, row.revision)
    const why = whyNot(row, mapping)
    if (why !== null) lost.push(`${row.no === 0 ? '' : `step ${row.no}, `}${row.kind} ${row.mapping}: ${why}`.trim())
    else if (mapping) {
      steps.push({ entry: row.entry, no: row.no, kind: row.kind as UndoStep['kind'], mapping, touched: row.touched })
      for (const words of gapsOf(mapping, row)) gaps.add(words)
    }
  }
  if (lost.length > 0)
    throw new LedgermanProblem(
      'not-reversible',
      `It cannot be put back: ${lost.slice(0, 5).join('; ')}. Nothing was changed.`,
      { lost, entries },
    )
  return { steps, gaps: [...gaps].map((words) => ({ words })) }
}

/** Why a step cannot be put back; null where it can. */
function whyNot({ kind, images, text }: StepRow, mapping: Mapping | undefined): string | null {
  if (kind === 'sql') return 'a raw statement leaves no images'
  if (images === 'none') return 'it was done without images'
  if (!mapping) return 'its mapping, as it was then, no longer fits the table'
  if (mapping.key.length === 0) return 'its table has no key to find the rows by'
  if (kind === 'remove' && mapping.key.some(({ sensitive }) => sensitive))
    return 'its key is sensitive, and the book has only digests of it'
  if (kind === 'add' && /\bon conflict\b[\s\S]*\bdo update\b/.test(text))
    return 'it added or changed, and the book does not say which'
  return null
}

/** What stays as it is, by name. */
function gapsOf(mapping: Mapping, { kind, touched }: StepRow): string[] {
  const written = mapping.properties.filter(({ column }) => touched.includes(column.name))
  return sideWrites(mapping, kind, written).map((words) => `${mapping.name}: ${words}`)
}

/** The properties of which the book has only digests, among those that the images hold. */
export function hiddenIn({ mapping, touched }: UndoStep): Property[] {
  return mapping.properties.filter(({ sensitive, column }) => sensitive && touched.includes(column.name))
}

/** What was to be added and was there already, was changed. */
const KIND_SQL = `case when s.kind = 'add' and exists (
    select from ledgerman.image i where i.entry = e.id and i.step = p.no and i.before is not null) then 'change' else s.kind end as kind`

/** What an entry says of itself is read once: of one that put back thousands it is long. */
const STEPS_SQL = `
select json_build_object('entry', id, 'no', no, 'kind', kind, 'mapping', mapping, 'revision', revision, 'touched', touched, 'text', text, 'images', images)::text
from (
  select e.id, e.at, 0 as no, s.kind, s.mapping, s.revision, s.touched, s.text, null::text as images
  from ledgerman.entry e join ledgerman.statement s on s.id = e.statement
  where e.id = any($1::uuid[]) and e.run is null and e.outcome = 'committed' and e.changed > 0
  union all
  select e.id, e.at, p.no, ${KIND_SQL}, s.mapping, s.revision, s.touched, s.text, once.images
  from ledgerman.entry e cross join lateral (select e.run->>'images' as images offset 0) as once join ledgerman.step p on p.entry = e.id join ledgerman.statement s on s.id = p.statement
  where e.id = any($1::uuid[]) and e.run is not null and e.outcome = 'committed' and not p.skipped and p.changed > 0
) as done
order by at desc, id desc, no desc`

/** The properties that a step restores, and those that have to be as it left them: not the version, nor what nobody can set. */
export function restored({ mapping, touched }: UndoStep): { set: Property[]; expected: Property[] } {
  const version = mapping.guard.by === 'version' ? mapping.guard.property : undefined
  const own = mapping.properties.filter(
    (property) =>
      touched.includes(property.column.name) &&
      property !== version &&
      !property.column.generated &&
      property.column.identity !== 'always',
  )
  // What nobody can set, a trigger wrote: it may write it again without anybody having changed the record.
  const expected = own.filter(({ lockedBecause }) => lockedBecause === null)
  return { set: own.filter(({ sensitive, column }) => !sensitive && column.updatable), expected }
}
