import type { Mapping, Property } from '../../mapping/mapping.js'
import { isDatabaseError } from '../../sessions/database-error.js'
import type { ScratchDatabase } from '../scratch/scratch-database.js'
import type { ObservedRow } from '../scratch/observe-run.js'
import type { SnapshotDifference } from '../scratch/snapshot.js'
import { rowAlias, rowJsonSql, rowTextSql } from '../scratch/row-text.js'
import { equalSql } from '../../values/operator-sql.js'
import { versionBumpSql } from '../../statement/set-sql.js'

/** Long enough for any lock that is free, in milliseconds. */
const PATIENCE_MS = 150

/** What somebody else did to a row meanwhile, in which column, or why it could not be done. */
export type Interference =
  | { difference: SnapshotDifference; column: string | null }
  | {
      prevented: string
      /** Whether it is the run itself that keeps others away: then there is nothing to fear. */ isByRun: boolean
    }

/** Changes a row as another program would: a value that the run is about to set where there is one, and the version. */
export async function changeByOther(
  scratch: ScratchDatabase,
  row: ObservedRow,
  preferred: readonly Property[],
): Promise<Interference> {
  const { mapping } = row
  const candidates = [...new Set([...preferred, ...mapping.properties])].flatMap((property) =>
    isFree(mapping, property) ? newValuesSql(property).map((value) => [property, value] as const) : [],
  )
  for (const [property, value] of candidates) {
    const version = versionBumpSql(mapping, 't')
    const set = [`${property.column.sql} = ${value}`, ...version].join(', ')
    const done = await asOther(scratch, row, `update ${mapping.table.sql} as t set ${set}`, property.column.name)
    if (done !== 'refused') return done
  }
  return { prevented: `no value of ${mapping.name} could be changed`, isByRun: false }
}

export async function removeByOther(scratch: ScratchDatabase, row: ObservedRow): Promise<Interference> {
  const done = await asOther(scratch, row, `delete from ${row.mapping.table.sql} as t`, null)
  return done === 'refused' ? { prevented: 'a constraint keeps the row', isByRun: false } : done
}

/** Holds a lock until `release` is called. */
export async function holdByOther(
  scratch: ScratchDatabase,
  text: string,
  values: readonly (string | null)[] = [],
): Promise<{ release(): Promise<void> }> {
  const session = await scratch.target.session()
  try {
    await session.query('begin')
    await session.query(text, values)
  } catch (error) {
    session.release(true)
    throw error
  }
  return {
    async release() {
      await session.query('rollback').catch(() => undefined)
      session.release(true)
    },
  }
}

/** The condition that finds a row by its key, and the values it is asked with. */
export function keyOf({ mapping, before }: ObservedRow, alias = 't'): { sql: string; values: (string | null)[] } {
  return {
    sql: mapping.key
      .map(({ column }, at) => equalSql(`${alias}.${column.sql}`, `$${at + 1}::${column.type.comparable}`, column.type))
      .join(' and '),
    values: mapping.key.map((property) => before?.[mapping.properties.indexOf(property)] ?? null),
  }
}

async function asOther(
  scratch: ScratchDatabase,
  row: ObservedRow,
  write: string,
  column: string | null,
): Promise<Interference | 'refused'> {
  const { table } = row.mapping
  const key = keyOf(row)
  const session = await scratch.target.session()
  try {
    await session.query('begin')
    await session.query(`set local lock_timeout = ${PATIENCE_MS}`)
    const alias = rowAlias(table)
    const image = `select ${rowJsonSql(alias)}, ${rowTextSql(table, alias)} from ${table.sql} as ${alias} where ${keyOf(row, alias).sql}`
    const [before = null, beforeText = null] = (await session.query(image, key.values)).rows[0] ?? []
    await session.query(`${write} where ${key.sql}`, key.values)
    const [after = null, afterText = null] = (await session.query(image, key.values)).rows[0] ?? []
    await session.query('commit')
    if (before === after) return 'refused'
    const own = scratch.tables.find(({ path }) => path === table.path) ?? table
    return { difference: { table: own, before, after, beforeText, afterText }, column }
  } catch (error) {
    await session.query('rollback').catch(() => undefined)
    if (!isDatabaseError(error)) throw error
    return error.code === '55P03' ? { prevented: 'the run holds its lock', isByRun: true } : 'refused'
  } finally {
    session.release()
  }
}

function isFree({ key, guard, table }: Mapping, property: Property): boolean {
  const { column } = property
  return (
    !key.includes(property) &&
    !(guard.by === 'version' && guard.property === property) &&
    !column.generated &&
    column.identity === null &&
    !table.references.some(({ columns }) => columns.includes(column.name))
  )
}

/** Other values of the same type, such as a constraint may take; none where none is known. Odd ones, that the run hardly sets too. */
function newValuesSql({ column }: Property): string[] {
  const name = `t.${column.sql}`
  const type = column.type.comparable
  if (/^(?:smallint|integer|bigint)/.test(type)) return [-3, 3, -1, 1].map((by) => `coalesce(${name}, 0) + ${by}`)
  if (/^(?:numeric|real|double precision)/.test(type))
    return [-0.37, 0.37, -3, 3].map((by) => `coalesce(${name}, 0) + ${by}`)
  if (/^(?:text|character varying)/.test(type)) return [`coalesce(${name}, '') || '+'`]
  if (type === 'boolean') return [`not coalesce(${name}, false)`]
  if (/^(?:date|timestamp)/.test(type))
    return ['3 days 07:11:13', '-3 days', '1 day'].map((by) => `coalesce(${name}, now()) + interval '${by}'`)
  return []
}
