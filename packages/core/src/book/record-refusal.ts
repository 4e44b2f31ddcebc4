import type { LedgermanProblem } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import { recordHashSql } from '../statement/book-sql.js'
import { canonicalKeySql } from '../statement/canonical-key.js'
import type { Target } from '../target/target.js'
import type { RunHeader } from '../transaction/receipt.js'

export interface Refusal {
  header: RunHeader
  /** The statement's number in the book; null where none was sent. */
  statement: string | null
  /** Its binds as they may be kept, in the text form of a text[]. */
  binds: string | null
  key: string | null
  /** Whose key it is. */
  mapping: Mapping
  matched: number | null
  problem: LedgermanProblem
}

/**
 * Writes a refused run to the book, after its roll-back. Where that cannot be done the refusal stands all the same: it is
 * what the caller has to hear.
 *
 * @returns whether it stands there now.
 */
export async function recordRefusal(target: Target, refusal: Refusal): Promise<boolean> {
  const { header, statement, binds, key, mapping, matched, problem } = refusal
  const keySql = key === null ? '$7::text[]' : canonicalKeySql(mapping, '$7::text[]')
  return target
    .query(
      `insert into ledgerman.entry (id, at, actor, outcome, statement, binds, note, record, key, matched, changed, problem, detail)
       values ($1, $2, $3, 'refused', $4, $5, $6, ${recordHashSql(keySql)}, ${keySql}, $8, 0, $9, $10) on conflict (id) do nothing`,
      [
        header.id,
        header.startedAt,
        header.actor,
        statement,
        binds,
        header.note,
        key,
        matched === null ? null : String(matched),
        problem.code,
        problem.detail,
      ],
    )
    .then(
      () => true,
      () => false,
    )
}
