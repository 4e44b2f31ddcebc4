import { ask, type Db } from '../support/ask.js'
import { DataError, OutcomeUnknown } from '../support/errors.js'
import type { RecordEntry } from './record.js'
import { Run } from './run.js'
import { arrayText, current, kept, newEntryId } from './settings.js'
import { idOf } from './statements.js'

/** Runs `work`, and keeps in the book why it was refused, after its roll-back. In somebody else's transaction nothing can be kept. */
export async function keepingRefusals<T>(db: Db, what: RecordEntry | Run, work: () => Promise<T>): Promise<T> {
  try {
    return await work()
  } catch (error) {
    const isRefused = error instanceof DataError && !(error instanceof OutcomeUnknown) && error.code !== 'value-invalid'
    // The refusal is what the caller has to hear, whether it can be kept or not.
    if (isRefused && 'totalCount' in db) await bookRefusal(db, what, error).catch(() => undefined)
    throw error
  }
}

/** The words of a refusal without values that must not be shown: in those of somebody's function one may stand anywhere. */
function withoutValues({ message, cause }: DataError): string {
  const said = cause as { routine?: string; message: string } | undefined
  const told = said?.routine === 'exec_stmt_raise' ? message.replaceAll(said.message, '…') : message
  const [from, to] = [told.indexOf('=('), told.lastIndexOf(')')]
  return (from < 0 || to < from ? told : `${told.slice(0, from)}=(…)${told.slice(to + 1)}`).replace(/'[^']*'/g, '…')
}

async function bookRefusal(db: Db, what: RecordEntry | Run, error: DataError): Promise<void> {
  const { actor, note } = current()
  const isRun = what instanceof Run
  const sensitive = isRun ? [] : what.statement.binds.map((bind) => bind.sensitive)
  // A sensitive key has no text that may be kept.
  const key = isRun || what.key.length === 0 ? 'null::text[]' : what.keySql
  await ask(
    db,
    `insert into ledgerman.entry (id, actor, outcome, statement, binds, note, record, key, changed, problem, detail, run, steps)
select $2::uuid, $3, 'refused', $4::bigint, $5::text[], $6, pg_catalog.hash_array_extended(k.key, 0), k.key, 0, $7, $8, $9::jsonb, $10::json
from (select case when $1::text[] is not null then ${key} end as key) as k
on conflict (id) do nothing`,
    [
      isRun ? null : arrayText(what.key),
      isRun ? what.id : newEntryId(),
      actor,
      isRun ? null : idOf(what.statement),
      isRun ? null : arrayText(kept(what.values, sensitive)),
      note,
      error.code,
      isRun || what.isSensitive ? withoutValues(error) : error.message,
      isRun ? JSON.stringify(what.told(null)) : null,
      isRun ? JSON.stringify(what.toldSteps(false)) : null,
    ],
  )
}
