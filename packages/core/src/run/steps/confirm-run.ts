import type { Receipt } from '@ledgerman/contract'
import { isWrite, type Plan } from '../../plan/plan.js'
import { confirmSql } from '../../statement/build-confirm.js'
import type { Target } from '../../target/target.js'

/** Reads every row that a committed run wrote, by a second session, and compares it with the images in the book. */
export async function confirmRun(
  target: Target,
  plan: Plan,
  { id }: Receipt,
): Promise<NonNullable<Receipt['confirmed']>> {
  const told = { rows: 0, asWritten: 0, writtenAgainSince: 0 }
  for (const { mapping, touched, kind, no } of plan.steps.filter(isWrite)) {
    if (mapping.key.length === 0) continue
    const { rows } = await target.readOnly(confirmSql(mapping, touched, kind === 'remove'), [id, String(no)])
    const [all = '0', asWritten = '0', again = '0'] = rows[0] ?? []
    told.rows += Number(all)
    told.asWritten += Number(asWritten)
    told.writtenAgainSince += Number(again)
  }
  return told
}
