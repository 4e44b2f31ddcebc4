import type { Mapping } from '../mapping/mapping.js'
import { ROWS_OF_BLOCK_SQL } from '../statement/image-block-sql.js'

// What gave records another key is filed under the key that they had. The numbers of such statements are negative, and two indexes
// of the book hold the entries that have one: of all others they cost nothing.

/** Whether an entry of one record gave it another key, as its index has it. */
export function movedSql(entry: string): string {
  return `${entry}.statement < 0`
}

/** Whether a step of an entry may have given records other keys, as its index has it. */
export function movedInStepsSql(entry: string): string {
  return `${entry}.steps::text collate "C" like '%"statement":"-%'`
}

/** Statements of `relation` that give records other keys, as the part `moving`. */
export function movingSql(relation: string): string {
  return `moving as materialized (
  select s.id, s.touched, s.key_columns from ledgerman.statement s where s.id < 0 and s.relation = ${relation}
)`
}

/** The columns of a key in order, as an array in JSON. */
export function keyColumnsOf({ key }: Pick<Mapping, 'key'>): string {
  return JSON.stringify(key.map(({ column }) => column.name))
}

/** The key that a record had after an image of a statement, in the form of the book. @param key the SQL of the one it had before */
function keyAfterSql(image: string, statement: string, key: string): string {
  return `array(
    select coalesce(${image}.after[pg_catalog.array_position(${statement}.touched, c.name)], (${key})[c.no])
    from pg_catalog.unnest(${statement}.key_columns) with ordinality as c(name, no) order by c.no)`
}

/** Whether a record whose key was written otherwise by an image still has one of those that are looked for, out of the part `wanted`. */
export function staysSql(image: string, statement: string, key: string): string {
  return `${statement}.id < 0 and exists (select from wanted o where o.columns = ${statement}.key_columns and o.key = ${keyAfterSql(image, statement, key)})`
}

/**
 * The entries that gave a record the key `w.key`, of the columns `w.columns`, in place of another, out of the parts `wanted` (as w) and `moving`: entry `e`, step `no` (0 where
 * the entry is that of one record), statement `m`, and the image `i`.
 */
export function movedHereSql(columns: string): string {
  const isHere = `${keyAfterSql('i', 'm', 'i.key')} = w.key and not exists (select from wanted o where o.columns = w.columns and o.key = i.key)`
  return `
  select ${columns} from wanted w join moving m on m.key_columns = w.columns join ledgerman.entry e on e.statement = m.id and ${movedSql('e')}
    cross join lateral (select 0 as no, e.key, e.before, e.after) as i
  where e.outcome = 'committed' and e.changed > 0 and ${isHere}
  union all
  select ${columns} from wanted w cross join (
    select e.* from ledgerman.entry e where ${movedInStepsSql('e')} and e.outcome = 'committed' and exists (select from moving)
  ) as e join ledgerman.step p on p.entry = e.id join moving m on m.id = p.statement and m.key_columns = w.columns
    cross join lateral (
      select p.no, i.key, i.before, i.after from ledgerman.image i where i.entry = e.id and i.step = p.no
      union all
      select p.no, r.key, r.before, r.after from ledgerman.image_block b cross join lateral ${ROWS_OF_BLOCK_SQL} as r
      where b.entry = e.id and b.step = p.no
    ) as i
  where ${isHere}`
}
