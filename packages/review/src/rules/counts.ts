import type { Execution, FunctionFacts, Run } from '../extract/facts.js'
import { areExclusive } from '../extract/paths.js'

/** What drivers call the number of rows, on a result, a cursor or a statement. */
const COUNTS =
  /(?:([$\w]+)\s*(?:\?\.|\.|->|::))?\s*\b(row_?count|rowCount|affected_?rows|affectedRows|statusmessage|RowsAffected|getUpdateCount|getLargeUpdateCount|changedRows|num_rows|RecordsAffected)\b|\bpg_affected_rows\s*\(\s*([$\w]+)/gi
/** What reads the rows that RETURNING gives. */
const READS_ROWS =
  /\bfetch\w*\s*\(|\.rows\b|\.next\s*\(|\bRead(?:Async)?\s*\(|\bExecuteScalar|\bfetch_|\bone\s*\(|\bscalar\w*\s*\(/g

/** Calls whose result is no count: true or nothing, whatever the rows. */
const GIVES_NO_COUNT: Readonly<Record<string, RegExp>> = { php: /^execute$/, java: /^execute$/ }

/** Whether a function looks how many rows each run of a statement changed; where it cannot be seen, it does. */
export function isCountLookedAt(fn: FunctionFacts, execution: Execution, hasReturning: boolean): boolean {
  // What is prepared here and run elsewhere is looked at there.
  return execution.runs.every(
    (run) => isResultLookedAt(fn, execution, run, hasReturning) || isCountReadBehind(fn, execution, run, hasReturning),
  )
}

function isResultLookedAt(fn: FunctionFacts, execution: Execution, run: Run, hasReturning: boolean): boolean {
  const { language, method, receiver } = execution
  const { result } = run
  if (result.to === 'nowhere') return false
  const isPlainExecute = method === 'execute' || /prepare/i.test(method)
  if (GIVES_NO_COUNT[language] && isPlainExecute && isExecuteCall(fn, run)) return false
  // A cursor of Python's DB-API gives nothing when it executes.
  if (language === 'python' && /cur(sor)?$|^c$/.test(receiver)) return false
  if (result.to === 'elsewhere') return true
  if (result.to === 'pattern')
    return new RegExp(COUNTS.source, 'i').test(result.text) || /\bcount\b/.test(result.text) || hasReturning
  const uses = usesOf(fn, result.name, run.end)
  return hasReturning
    ? uses.length > 0
    : uses.some((after) => !/^\s*(?:\?\.|\.|->)\s*rows\b(?!\s*\.\s*length)/.test(after))
}

/** Whether the call itself is named `execute`: `executeUpdate` gives the count. */
function isExecuteCall({ code, from }: FunctionFacts, { at, end }: Run): boolean {
  return /(?:\.|->)\s*execute\s*\([^;]*$/.test(code.slice(at - from, end - from))
}

/** What follows each use of a variable behind a place. */
function usesOf({ code, from }: FunctionFacts, name: string, behind: number): string[] {
  const escaped = name.replaceAll('$', '\\$')
  const rest = code.slice(behind - from)
  return [...rest.matchAll(new RegExp(`(?<![\\w$.])${escaped}(?![\\w$])`, 'g'))].map(({ index }) =>
    rest.slice(index + name.length, index + name.length + 40),
  )
}

/** Whether a count is read from the cursor or the statement after a run, before another statement runs there. */
function isCountReadBehind(fn: FunctionFacts, execution: Execution, run: Run, hasReturning: boolean): boolean {
  const others = fn.executions.flatMap((each) => each.runs.map((other) => ({ each, other })))
  const next = others.filter(({ other }) => other.at > run.at && !areExclusive(other, run)).map(({ other }) => other.at)
  const until = Math.min(...next, Number.MAX_SAFE_INTEGER)
  const isOthers = (name: string) =>
    others.some(({ each, other }) => each !== execution && (each.handle === name || isNamed(other, name)))
  const reads = [...fn.code.matchAll(COUNTS)].some(({ index, 1: base = '', 3: argument = '' }) => {
    const at = fn.from + index
    // What another run's result is taken apart into is that one's.
    if (others.some(({ other }) => other !== run && isInPattern(other, at))) return false
    const name = base || argument
    if (name !== '' && (name === execution.handle || isNamed(run, name))) return at > run.at
    return at > run.at && at < until && !(name !== '' && isOthers(name))
  })
  if (reads || !hasReturning) return reads
  return [...fn.code.matchAll(READS_ROWS)].some(({ index }) => fn.from + index > run.at && fn.from + index < until)
}

function isInPattern({ result }: Run, at: number): boolean {
  return result.to === 'pattern' && at >= result.at && at < result.end
}

function isNamed({ result }: Run, name: string): boolean {
  return result.to === 'variable' && result.name === name
}
