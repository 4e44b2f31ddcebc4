import type { Receipt } from '@ledgerman/contract'
import { isWrite, type Plan } from '../plan/plan.js'
import { equalSql } from '../values/operator-sql.js'
import { readSql } from '../values/sql-form.js'
import type { Target } from '../target/target.js'

/**
 * Reads every row that a committed run wrote, by a second session, and compares it with the images in the book: of a row written by
 * several steps the last counts.
 */
export async function confirmRun(
  target: Target,
  plan: Plan,
  { id }: Receipt,
): Promise<NonNullable<Receipt['confirmed']>> {
  const told = { rows: 0, asWritten: 0, writtenAgainSince: 0 }
  for (const step of plan.steps.filter(isWrite)) {
    const { mapping, touched } = step
    if (mapping.key.length === 0) continue
    // The column itself is compared, so that its index serves.
    const join = mapping.key
      .map(({ column }, at) => equalSql(`t.${column.sql}`, `i.key[${at + 1}]::${column.type.comparable}`, column.type))
      .join(' and ')
    const isOpenKey = mapping.key.every((property) => !property.sensitive)
    const current = touched.map(({ column }) => `${readSql(`t.${column.sql}`, column.type)}::text`).join(', ')
    const open =
      touched.every((property) => !property.sensitive) && mapping.key.every((property) => !property.sensitive)
    const isThere = `t.${mapping.key[0]?.column.sql} is not null`
    const same =
      step.kind === 'remove' ? `not (${isThere})` : `${isThere} and array[${current}] operator(pg_catalog.=) i.after`
    const { rows } = await target.readOnly(
      `select count(*), count(*) filter (where ${open ? same : isThere}), count(*) filter (where exists (
         select 1 from ledgerman.image later where later.record = i.record and later.key operator(pg_catalog.=) i.key and later.entry > i.entry
         union all select 1 from ledgerman.entry later where later.record = i.record and later.key operator(pg_catalog.=) i.key and later.id > i.entry))
       from ledgerman.image i left join ${mapping.table.sql} as t on ${isOpenKey ? join : 'false'}
       where i.entry = $1 and i.step = $2
         and not exists (select 1 from ledgerman.image again where again.entry = i.entry and again.record = i.record and again.key operator(pg_catalog.=) i.key and again.step > i.step)`,
      [id, String(step.no)],
    )
    const [all = '0', asWritten = '0', again = '0'] = rows[0] ?? []
    told.rows += Number(all)
    told.asWritten += Number(asWritten)
    told.writtenAgainSince += Number(again)
  }
  return told
}
