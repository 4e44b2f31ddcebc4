import { LedgermanProblem } from '@ledgerman/contract'
import type { Mapping } from '../mapping/mapping.js'
import { recordHashSql } from '../statement/book-sql.js'
import { bookedKeysSql } from '../statement/canonical-key.js'
import { blocksOfRecordSql } from '../statement/image-block-sql.js'
import type { Target } from '../target/target.js'
import { digestKeyPads } from '../statement/digest-key.js'
import { keyColumnsOf, movedHereSql, movingSql } from './moved-keys.js'

export interface EntryFilter {
  limit: number
  /** The `next` of the page before: an entry id. */
  after?: string | undefined
  outcome?: string | undefined
  actor?: string | undefined
  mapping?: string | undefined
  transaction?: string | undefined
  /** Instants (RFC 3339): from the first on, and before the second. */
  from?: string | undefined
  until?: string | undefined
  /** The record's key values in text form; only together with `mapping`. */
  key?: readonly string[] | undefined
  /** Whose key it is, where the mapping still fits: the key is found then however it is spelled. */
  keyed?: Mapping | undefined
}

/** With the service's key to digests of sensitive values. */
type Conditions = Omit<EntryFilter, 'limit'> & { digestKey: Buffer }

/** What entries `e` have to fulfil, and the values to bind. */
export function entryConditions(filter: Conditions): { conditions: string[]; values: string[] } {
  const conditions: string[] = []
  const values: string[] = []
  const where = (sql: (placeholder: string) => string, value: string | undefined) => {
    if (value !== undefined) conditions.push(sql(`$${values.push(value)}`))
  }
  where((value) => `e.id < ${value}::uuid`, filter.after)
  const isCode = filter.outcome !== undefined && filter.outcome !== 'committed' && filter.outcome !== 'refused'
  where((value) => `${isCode ? 'e.problem' : 'e.outcome'} = ${value}`, filter.outcome)
  where((value) => `e.actor = ${value}`, filter.actor)
  where((value) => `e.run->>'transaction' = ${value}`, filter.transaction)
  where((value) => `e.at >= ${value}::timestamptz`, filter.from)
  where((value) => `e.at < ${value}::timestamptz`, filter.until)
  where((value) => {
    // Found once, and not for each entry; as a join the planner would read the steps of the whole book.
    const ofMapping = `array(select t.id from ledgerman.statement t where t.mapping = ${value})`
    return `(e.statement = any (${ofMapping}) or exists (select 1 from pg_catalog.json_to_recordset(e.steps) as p(statement bigint) where p.statement = any (${ofMapping})))`
  }, filter.mapping)
  where((value) => ofRecordSql(filter, value, values), filter.key && JSON.stringify(filter.key))
  return { conditions, values }
}

/** The condition that an entry is of one record: it changed it, was refused it, or gave it its key. @param value where the key is bound */
function ofRecordSql({ keyed, digestKey }: Conditions, value: string, values: string[]): string {
  const bound = (more: string) => `$${values.push(more)}`
  const array = (json: string) => `array(select jsonb_array_elements_text(${json}::jsonb))`
  const isSensitive = keyed?.key.some(({ sensitive }) => sensitive) ?? false
  const pads = isSensitive ? bound(digestKeyPads(digestKey)) : null
  const given = `(select ${array(value)} as parts) as given`
  const keys = keyed
    ? `${given} cross join lateral ${bookedKeysSql(keyed, 'given.parts', pads)}`
    : `(select ${array(value)} as key)`
  const columns = keyed ? `${array(bound(keyColumnsOf(keyed)))} as columns, ` : ''
  const filed = (from: string) => `select ${from} as x where x.record = ${recordHashSql('w.key')} and x.key = w.key`
  const all = [
    filed('x.id from ledgerman.entry'),
    filed('x.entry from ledgerman.image'),
    blocksOfRecordSql('w.key', 'b.entry'),
  ]
  const here = keyed ? [`, ${movingSql(bound(keyed.table.path))}`, `union all ${movedHereSql('e.id')}`] : ['', '']
  return `e.id in (with wanted as (select ${columns}keys.key from ${keys} as keys)${here[0]}
select found.id from wanted w cross join lateral (${all.join(' union all ')}) as found(id) ${here[1]})`
}

/** @throws LedgermanProblem book-not-prepared */
export async function assertBookPrepared(target: Target): Promise<void> {
  if (await target.isBookPrepared()) return
  throw new LedgermanProblem(
    'book-not-prepared',
    `The target ${target.name} has no book yet, or one of an earlier version. Prepare it: ledgerman book prepare.`,
    { target: target.name },
  )
}
