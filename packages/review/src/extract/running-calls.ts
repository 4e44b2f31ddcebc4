import type { Node } from 'web-tree-sitter'
import { calledOf } from './text-of.js'

/** What the grammars call a call. */
export const CALLS = new Set([
  'call',
  'call_expression',
  'method_invocation',
  'invocation_expression',
  'function_call_expression',
  'member_call_expression',
  'nullsafe_member_call_expression',
  'scoped_call_expression',
  'object_creation_expression',
  'new_expression',
])

/** Calls that run or prepare the statement in their first text. */
export const RUNNING =
  /^(execute|executemany|executescript|query|queryOne|queryAll|queryRow|queryForObject|queryForList|queryForMap|update|batchUpdate|prepare|prepareStatement|prepareCall|createStatement|executeQuery|executeUpdate|executeLargeUpdate|exec|run|all|get|each|any|one|none|many|oneOrNone|manyOrNone|fetch|fetchrow|fetchval|fetchone|fetchall|pg_query|pg_query_params|pg_prepare|pg_send_query|pg_send_query_params|mysqli_query|unsafe|raw|sql|text|createQuery|createNativeQuery|createNamedQuery|fetch_all|fetch_row|fetchAll|fetchOne|fetchColumn|fetchAssoc|fetchAssociative|executeStatement|select|insert|delete|statement|affectingStatement|NpgsqlCommand|SqlCommand|OdbcCommand|OleDbCommand|CreateCommand|ExecuteAsync|Execute|ExecuteScalar|ExecuteScalarAsync|ExecuteNonQuery|ExecuteNonQueryAsync|ExecuteReader|ExecuteReaderAsync|Query|QueryAsync|QueryFirst|QueryFirstAsync|QueryFirstOrDefault|QueryFirstOrDefaultAsync|QuerySingle|QuerySingleAsync|QuerySingleOrDefault|QuerySingleOrDefaultAsync|ExecuteSqlRaw|ExecuteSqlRawAsync|FromSqlRaw|cursor|mogrify|copy_expert|read_sql|read_sql_query)$/

/** Calls that only make a statement: it is run by another call. */
export const PREPARING =
  /^(prepare|prepareStatement|prepareCall|pg_prepare|createStatement|NpgsqlCommand|SqlCommand|OdbcCommand|OleDbCommand|CreateCommand|createQuery|createNativeQuery|createNamedQuery|text|sql|raw)$/
/** Calls that run a statement which was made before. */
export const RUNS_PREPARED =
  /^(execute|executeUpdate|executeQuery|executeLargeUpdate|executeBatch|ExecuteNonQuery|ExecuteNonQueryAsync|ExecuteScalar|ExecuteScalarAsync|ExecuteReader|ExecuteReaderAsync|run|all|get)$/

/** The call that runs what a call prepares, where one follows the other: `prepare(…).execute(…)`, `createNativeQuery(…).setParameter(…).executeUpdate()`. */
export function chainedRun(node: Node): Node | undefined {
  for (let at = node, depth = 0; depth < 50; depth++) {
    const call = at.parent && CALLS.has(at.parent.type) ? at.parent : at.parent?.parent
    if (!call || !CALLS.has(call.type)) return undefined
    const { name, receiver } = calledOf(call)
    if (receiver?.id !== at.id) return undefined
    if (RUNS_PREPARED.test(name)) return call
    if (!/^(set\w+|bind\w*)$/.test(name)) return undefined
    at = call
  }
  return undefined
}
