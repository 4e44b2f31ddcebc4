/**
 * Whether an entry `e` that no seal covers was put in past Ledgerman: a condition.
 *
 * An entry's `at` is not before its transaction began. When a seal was made, every transaction that was open had begun after `open_since`, and
 * every one that had written had a number below `next_transaction`. An entry from before `open_since` whose transaction got its number
 * later than that cannot have been on its way: whoever wrote it gave it another moment. Nor has Ledgerman ids other than UUIDs of version 7.
 * A second is allowed for a transaction that begins while it is looked which are open.
 */
export const IS_STRAY_SQL = `(pg_catalog.substr(e.id::text, 15, 1) <> '7' or exists (
  select from (select s.next_transaction from ledgerman.seal s where s.open_since > e.at + interval '1 second' order by s.open_since, s.entries limit 1) as earliest
  where ${transactionSql('e')} >= earliest.next_transaction))`

/**
 * The number, in 64 bits, of the transaction that wrote the row (PostgreSQL keeps 32 of them with each row): the greatest that ends so and
 * has been given out.
 */
function transactionSql(alias: string): string {
  const next = `pg_catalog.pg_snapshot_xmax(pg_catalog.pg_current_snapshot())::text::bigint`
  return `(${next} - ((${next} - ${alias}.xmin::text::bigint) & 4294967295))`
}
