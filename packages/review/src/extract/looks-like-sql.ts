import type { Part } from './facts.js'

const LOOKS_LIKE_SQL =
  /^\s*(?:--[^\n]*\n\s*|\/\*[^*]*(?:\*(?!\/)[^*]*)*\*\/\s*)*(?:select\s|insert\s+into\s|update\s+(?:only\s+)?[\w".$?:@%{]+(?:\s+(?:as\s+)?\w+)?\s+set\s|delete\s+from\s|with\s+(?:recursive\s+)?\w+(?:\s*\([^)]*\))?\s+as\s|merge\s+into\s|truncate\s+(?:table\s+)?\w|lock\s+table\s|begin\b|start\s+transaction|commit\b|rollback\b|call\s+\w+\s*\(|values\s*\()/i

/** A text that begins as a statement does, whatever it is put together from: what has none needs no parsing. Each repetition has an end, so that reading stays linear. */
const HOLDS_SQL =
  /(?:["'`]|<<<\s*["']?\w+["']?[ \t]*\r?\n)(?:\s|\\[nrt]){0,5000}(?:(?:--[^\n]{0,120}\n|\/\*[^*]{0,120}\*\/)(?:\s|\\[nrt]){0,120}){0,2}(?:(?:select|insert|update|delete|with|merge|truncate|lock|call|start\s+transaction)(?:\s|\\[nrt]|\/\*)|(?:begin|commit|rollback)\b|values\s*\()/i

/** Whether a program's source may hold statements. */
export function mayHoldSql(source: string): boolean {
  return HOLDS_SQL.test(source)
}

/** Whether a text may be a statement. */
export function looksLikeSql(parts: readonly Part[]): boolean {
  return LOOKS_LIKE_SQL.test(parts.map((part) => ('text' in part ? part.text : 'x1')).join(''))
}

/** What a call that does nothing but run statements is given may be written wrongly, and is one all the same. */
const BEGINS_LIKE_SQL =
  /^\s*(?:select|insert|update|delete|with|merge)\s+[\w"*(@$:?%'.][\s\S]*\s(?:from|where|set|values|into|=|returning)\b|^\s*(?:select|update|delete|insert)\b[\s\S]*[=,(*]/i
const ONLY_RUNNING =
  /^(execute|executemany|executeQuery|executeUpdate|prepareStatement|prepare|query|pg_query|pg_query_params|NpgsqlCommand|SqlCommand|exec|fetch|fetchrow|fetchval)$/

/** Whether a call is given a statement. */
export function isStatementOf(method: string, parts: readonly Part[]): boolean {
  if (looksLikeSql(parts)) return true
  return (
    ONLY_RUNNING.test(method) && BEGINS_LIKE_SQL.test(parts.map((part) => ('text' in part ? part.text : 'x1')).join(''))
  )
}
