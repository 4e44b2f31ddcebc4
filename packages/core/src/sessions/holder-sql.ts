/**
 * The prepared transactions. One keeps its locks and has no session: `pg_blocking_pids` gives 0 for it, and `pg_locks` no pid. Which locks
 * are its own tells `vxid`, the virtual transaction that holds the lock on its number. Where a pid is told, it is that number, negative.
 */
export const PREPARED_SQL = `(
    select -x.transaction::text::bigint as pid, x.gid, x.owner, x.prepared, x.database, k.virtualtransaction as vxid
    from pg_prepared_xacts x join pg_locks k on k.locktype = 'transactionid' and k.transactionid = x.transaction and k.granted and k.pid is null
  )`

/** The lock `l` is one of the prepared transaction `p`. */
export const IS_OF_PREPARED = `l.pid is null and l.virtualtransaction = p.vxid`

/** The locks `l` and `w` are on the same thing. */
export const IS_SAME_LOCK = `(l.locktype, l.database, l.relation, l.page, l.tuple, l.virtualxid, l.transactionid, l.classid, l.objid, l.objsubid)
      is not distinct from (w.locktype, w.database, w.relation, w.page, w.tuple, w.virtualxid, w.transactionid, w.classid, w.objid, w.objsubid)`

/** What the session `a` calls itself; one of the server's own, such as autovacuum, is told by what it is. Whoever may not see that sees the name. */
export const APPLICATION = `coalesce(case when a.backend_type <> 'client backend' then a.backend_type end, a.application_name)`
