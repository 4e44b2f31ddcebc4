import type { RecordValues } from '@ledgerman/contract'
import type { KeyTexts, Mapping } from '../../mapping/mapping.js'
import type { Target } from '../../target/target.js'
import { loadRecord } from './load-record.js'
import type { StepOutcome } from '../../book/receipt.js'
import type { ToldRecord } from '../../mapping/record-row.js'

/** A record whose change was committed though its answer was lost, as far as it can be read again. */
interface SettledRecord {
  record: RecordValues
  guard: string | null
  lost: ToldRecord['lost']
  outcome: StepOutcome
}

/**
 * Reads back what a lost answer would have said: the counts out of the book, and the record as it is now. The change is committed:
 * whatever cannot be read is said to be missing, and refuses nothing.
 */
export async function settledRecord(
  target: Target,
  mapping: Mapping,
  key: KeyTexts,
  id: string,
): Promise<SettledRecord> {
  const entry = await target
    .readBook(
      'select kind, matched, changed, to_json(e.key) from ledgerman.entry e left join ledgerman.statement s on s.id = e.statement where e.id = $1',
      [id],
    )
    .then(({ rows }) => rows[0])
    .catch(() => undefined)
  const [kind, matched = null, changed = null, keyJson] = entry ?? []
  const outcome = { matched: toCount(matched), changed: toCount(changed), durationMs: null, rows: [] }
  if (kind === 'remove') return { record: {}, guard: null, lost: [], outcome }
  const texts = JSON.parse(keyJson ?? '[]') as (string | null)[]
  const known = key.size > 0 ? key : new Map(mapping.key.map(({ name }, at) => [name, texts[at] ?? '']))
  return loadRecord(target, mapping, known).then(
    ({ record, guard }) => ({ record, guard, lost: [], outcome }),
    () => ({
      record: {},
      guard: null,
      lost: [{ name: mapping.name, why: 'The record was changed, and could not be read again. Load it.' }],
      outcome,
    }),
  )
}

function toCount(text: string | null): number | null {
  return text === null ? null : Number(text)
}
