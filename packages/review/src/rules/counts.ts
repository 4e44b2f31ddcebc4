import type { Execution, FunctionFacts, Run } from '../extract/facts.js'
import { areExclusive } from '../extract/paths.js'

/** What drivers call the number of rows, on a result, a cursor or a statement. */
const COUNTS =
  /(?:(?<![$\w])([$\w]+)\s*(?:\?\.|\.|->|::)\s*)?\b(?:row_?count|affected_?rows|statusmessage|RowsAffected|getUpdateCount|getLargeUpdateCount|changedRows|num_rows|RecordsAffected)\b|\bpg_affected_rows\s*\(\s*([$\w]+)/gi
const COUNT = new RegExp(COUNTS.source, 'i')
/** What reads the rows that RETURNING gives. */
const READS_ROWS =
  /\bfetch\w*\s*\(|\.rows\b|\.next\s*\(|\bRead(?:Async)?\s*\(|\bExecuteScalar|\bone\s*\(|\bscalar\w*\s*\(/g

/** Calls whose result is no count: true or nothing, whatever the rows. */
const GIVES_NO_COUNT: Readonly<Record<string, RegExp>> = { php: /^execute$/, java: /^execute$/ }

/** Whether a function looks how many rows each run of a statement changed; where it cannot be seen, it does. */
export function isCountLookedAt(fn: FunctionFacts, execution: Execution, hasReturning: boolean): boolean {
  const reads = readsOf(fn)
  // What is prepared here and run elsewhere is looked at there.
  return execution.runs.every(
    (run) =>
      isResultLookedAt(fn, reads, execution, run, hasReturning) || isReadBehind(reads, execution, run, hasReturning),
  )
}

/** What a function reads, and where: found once for all of its statements. Places are in characters of the file, in their order. */
interface Reads {
  /** Counts, with what they are read from; `run` is the one whose result is taken apart there. */
  counts: { at: number; name: string; run: Run | undefined }[]
  /** The last place where a count is read from something of this name. */
  lastCount: ReadonlyMap<string, number>
  rows: number[]
  runs: { at: number; run: Run }[]
  /** The statements that a name stands for, or whose result it holds. */
  holders: ReadonlyMap<string, ReadonlySet<Execution>>
  /** Where each word stands. */
  words: ReadonlyMap<string, number[]>
}

const known = new WeakMap<FunctionFacts, Reads>()

function readsOf(fn: FunctionFacts): Reads {
  let reads = known.get(fn)
  if (!reads) known.set(fn, (reads = readsIn(fn)))
  return reads
}

function readsIn({ executions, code, from }: FunctionFacts): Reads {
  const runs = executions
    .flatMap((execution) => execution.runs.map((run) => ({ at: run.at, run, execution })))
    .sort((one, other) => one.at - other.at)
  const holders = new Map<string, Set<Execution>>()
  for (const { run, execution } of runs)
    for (const name of [execution.handle, run.result.to === 'variable' ? run.result.name : null])
      if (name !== null) holders.set(name, (holders.get(name) ?? new Set<Execution>()).add(execution))
  const patterns = runs.flatMap(({ run }) => (run.result.to === 'pattern' ? [{ run, ...run.result }] : []))
  const counts: Reads['counts'] = []
  const lastCount = new Map<string, number>()
  let next = 0
  for (const { index, 1: base = '', 2: argument = '' } of code.matchAll(COUNTS)) {
    const at = from + index
    const name = base || argument
    while (next < patterns.length && (patterns[next]?.end ?? 0) <= at) next++
    const pattern = patterns[next]
    counts.push({ at, name, run: pattern && pattern.at <= at ? pattern.run : undefined })
    if (name !== '') lastCount.set(name, at)
  }
  const words = new Map<string, number[]>()
  for (const { 0: word, index } of code.matchAll(/(?<![\w$.])[$A-Za-z_][\w$]*/g)) {
    const places = words.get(word)
    if (places) places.push(from + index)
    else words.set(word, [from + index])
  }
  return {
    counts,
    lastCount,
    rows: [...code.matchAll(READS_ROWS)].map(({ index }) => from + index),
    runs,
    holders,
    words,
  }
}

/** The first of a sorted list that stands behind a place. */
function firstBehind<Placed>(list: readonly Placed[], place: number, placeOf: (each: Placed) => number): number {
  let [low, high] = [0, list.length]
  while (low < high) {
    const middle = (low + high) >> 1
    if (placeOf(list[middle] as Placed) > place) high = middle
    else low = middle + 1
  }
  return low
}

function isResultLookedAt(
  fn: FunctionFacts,
  { words }: Reads,
  { language, method, receiver }: Execution,
  { result, at, end }: Run,
  hasReturning: boolean,
): boolean {
  if (result.to === 'nowhere') return false
  const isPlainExecute = method === 'execute' || /prepare/i.test(method)
  if (GIVES_NO_COUNT[language] && isPlainExecute && isExecuteCall(fn, at, end)) return false
  // A cursor of Python's DB-API gives nothing when it executes.
  if (language === 'python' && /cur(sor)?$|^c$/.test(receiver)) return false
  if (result.to === 'elsewhere') return true
  if (result.to === 'pattern') return COUNT.test(result.text) || /\bcount\b/.test(result.text) || hasReturning
  const places = words.get(result.name) ?? []
  const behind = firstBehind(places, end - 1, (each) => each)
  if (hasReturning) return behind < places.length
  // Of a statement that gives no rows, its rows say nothing.
  return places.slice(behind, behind + MOST_USES).some((place) => {
    const offset = place - fn.from + result.name.length
    return !/^\s*(?:\?\.|\.|->)\s*rows\b(?!\s*\.\s*length)/.test(fn.code.slice(offset, offset + 40))
  })
}

const MOST_USES = 50
/** How many runs in other branches are passed over to find the next one. */
const MOST_PASSED = 200

/** Whether the call itself is named `execute`: `executeUpdate` gives the count. */
function isExecuteCall({ code, from }: FunctionFacts, at: number, end: number): boolean {
  return /(?:\.|->)\s*execute\s*\([^;]*$/.test(code.slice(at - from, end - from).slice(-2_000))
}

/** Whether a count is read from the cursor or the statement after a run, before another statement runs there. */
function isReadBehind(
  { counts, lastCount, rows, runs, holders }: Reads,
  execution: Execution,
  run: Run,
  hasReturning: boolean,
): boolean {
  const own = [execution.handle, run.result.to === 'variable' ? run.result.name : null]
  if (own.some((name) => name !== null && (lastCount.get(name) ?? -1) > run.at)) return true
  let next = firstBehind(runs, run.at, ({ at }) => at)
  const furthest = Math.min(runs.length, next + MOST_PASSED)
  while (next < furthest && areExclusive((runs[next] as { run: Run }).run, run)) next++
  const until = runs[next]?.at ?? Number.MAX_SAFE_INTEGER
  for (let at = firstBehind(counts, run.at, (each) => each.at); at < counts.length; at++) {
    const count = counts[at] as Reads['counts'][number]
    if (count.at >= until) break
    // What another run's result is taken apart into is that one's; so is what is read from another statement.
    if (count.run !== undefined && count.run !== run) continue
    const named = holders.get(count.name)
    if (named === undefined || (named.size === 1 && named.has(execution))) return true
  }
  return hasReturning && (rows[firstBehind(rows, run.at, (each) => each)] ?? Number.MAX_SAFE_INTEGER) < until
}
