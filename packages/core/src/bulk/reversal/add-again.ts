import type { BulkStep } from '../book-bulk.js'
import { emptyReport, nothingGiven } from '../bulk-request.js'
import { GIVEN, givenColumn, type BulkShape, type GivenShape } from '../bulk-shape.js'
import { SHOWN_ROWS } from '../find-statements.js'
import { FoundRows, sameGivenSql } from '../found-rows.js'
import { ToldRows } from '../told-rows.js'
import type { UnitResult } from '../unit-options.js'
import { add } from '../write-statements.js'
import type { OwnSession } from '../../sessions/own-session.js'
import { blockBits } from '../../statement/image-block-sql.js'
import { bindValues, type Statement } from '../../statement/statement.js'
import type { Target } from '../../target/target.js'
import { digestKeyPads } from '../../statement/digest-key.js'
import { reversalConflict } from './reversal-problems.js'

interface AddAgainOptions {
  /** How many rows stand in the temporary table. */
  count: number
  /** The entry that the reversal leaves. */
  entry: string
  isBooked: boolean
  /** Leaves what is there again, and says so. */
  onlyUnchanged: boolean
}

/**
 * Adds what an entry removed, out of the temporary table of its images.
 *
 * @throws LedgermanProblem reversal-conflict where a record is there again
 */
export async function addAgain(
  target: Target,
  session: OwnSession,
  shape: BulkShape,
  { count, entry, isBooked, onlyUnchanged }: AddAgainOptions,
): Promise<UnitResult> {
  const { mapping } = shape
  const told = new ToldRows(target, shape)
  const keys = mapping.key.map((property) => `g.${givenColumn(shape.given as GivenShape, property)}`).join(', ')
  const { rows: there } = await session.query(
    `select ${keys} from ${GIVEN} as g where exists (select 1 from ${mapping.table.sql} as t where ${mapping.key.map((property) => sameGivenSql(property, shape.given)).join(' and ')}) limit ${SHOWN_ROWS}`,
  )
  const failed = there.map((key) => ({
    line: null,
    key: told.key(key),
    reason: 'It is there again.',
    code: 'record-changed' as const,
  }))
  if (failed.length > 0 && !onlyUnchanged)
    throw reversalConflict(
      mapping,
      failed.map(({ key }) => ({ key, left: null, now: {} })),
      failed.length,
    )
  const { rows: sizes } = await session.query(
    `select coalesce(pg_catalog.avg(pg_catalog.pg_column_size(g.*)), 0)::bigint from ${GIVEN} as g`,
  )
  const bits = blockBits(count, Number(sizes[0]?.[0] ?? 0))
  const valuesOf = (statement: Statement) =>
    bindValues(statement, (source, slot) => {
      switch (source.from) {
        case 'entry':
          return entry
        case 'bits':
          return String(bits)
        case 'line':
          return source.of === 'first' ? '1' : String(Number.MAX_SAFE_INTEGER)
        case 'digest key':
          return digestKeyPads(target.digestKey)
        case 'literal':
          return source.text
        default:
          return nothingGiven(source, slot)
      }
    })
  const statement = add(new FoundRows(shape, false), isBooked, true)
  const { rows } = await session.query(statement.text, valuesOf(statement))
  const changed = Number(rows[0]?.[0] ?? 0)
  const shown = add(new FoundRows(shape, false), false, true)
  const step: BulkStep = {
    kind: 'add',
    statement: shown,
    binds: valuesOf(shown),
    matched: count,
    changed,
    expected: 'any',
  }
  return {
    report: {
      ...emptyReport(),
      matched: count,
      changed,
      added: changed,
      refused: failed.length,
      sample: failed,
      rows: told.rows(
        rows.map((row) => row.slice(2)),
        true,
      ),
    },
    failed,
    evidence: { matched: count, digest: String(changed) },
    steps: [step],
  }
}
