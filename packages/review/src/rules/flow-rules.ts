import { areExclusive } from '../extract/paths.js'
import { namesAny } from '../extract/loops.js'
import type { ReviewFinding } from '@ledgerman/contract'
import type { FunctionFacts, Run } from '../extract/facts.js'
import { isCountLookedAt } from './counts.js'
import { finding, withArticle, type Subject } from './finding.js'

/** What a function does with the statements it runs. */
export function flowFindings(fn: FunctionFacts, subjects: readonly Subject[], hasLimits: boolean): ReviewFinding[] {
  if (subjects.length === 0) return []
  return [
    countIgnored,
    notAwaited,
    neverCommitted,
    leftOpen,
    apart,
    begunOnPool,
    unboundedWait,
    oneByOne,
    sessionKept,
  ].flatMap((rule) => rule(fn, subjects, hasLimits))
}

/** What the statements of an SQL file do, one after the other. */
export function scriptFindings(subjects: readonly Subject[], hasLimits: boolean): ReviewFinding[] {
  return [...unboundedWait({ name: 'This file' }, subjects, hasLimits), ...scriptNeverCommitted(subjects)]
}

/** A transaction that is open at the end of the file is rolled back with the session. */
function scriptNeverCommitted(subjects: readonly Subject[]): ReviewFinding[] {
  let isOpen = false
  let first: Subject | undefined
  for (const subject of subjects) {
    const text = subject.read.text.trim()
    if (subject.facts?.kind !== 'transaction') {
      if (isOpen && writes(subject)) first ??= subject
    } else if (/^(?:begin|start\s+transaction)\b/i.test(text)) {
      isOpen = true
    } else if (/^(?:commit|end|rollback|abort)\b(?!\s+(?:to|prepared)\b)/i.test(text)) {
      isOpen = false
      first = undefined
    }
  }
  return first
    ? [
        finding(
          first,
          'never-committed',
          'error',
          first.execution.place,
          'This file begins a transaction and never commits it.',
        ),
      ]
    : []
}

/** Whether a file sets limits for waiting somewhere. */
export function setsLimits(text: string): boolean {
  return /lock_timeout|statement_timeout|command_?timeout|query_timeout|setQueryTimeout|CommandTimeout/i.test(text)
}

function writes({ facts }: Subject): boolean {
  return facts !== undefined && ['insert', 'update', 'delete', 'merge'].includes(facts.kind)
}

function countIgnored(fn: FunctionFacts, subjects: readonly Subject[]): ReviewFinding[] {
  return subjects.flatMap((subject) => {
    const { facts, execution } = subject
    if (
      !facts ||
      (facts.kind !== 'update' && facts.kind !== 'delete') ||
      facts.where === null ||
      facts.equalities.length === 0 ||
      !isOneMeant(subject) ||
      isDropped(fn, subject) ||
      isCountLookedAt(fn, execution, facts.hasReturning)
    )
      return []
    const verb = facts.kind === 'update' ? 'changed' : 'removed'
    return [
      finding(
        subject,
        'count-ignored',
        'warning',
        execution.place,
        `${fn.name} does not look how many rows were ${verb}: ${withArticle(facts.target?.name ?? 'record')} that is not there goes unnoticed.`,
      ),
    ]
  })
}

/** Whether one record is meant: by a unique key, or by a column that is called like one. */
function isOneMeant({ facts, key }: Subject): boolean {
  if (key !== undefined) return key !== null
  return (
    facts?.equalities.some(({ column }) =>
      /^(id|uuid|guid|code|key|slug|email|login)$|_(no|code|key)$/i.test(column),
    ) ?? false
  )
}

/** A promise that nobody waits for; what it does is done later, or, in Python, never. */
function notAwaited(fn: FunctionFacts, subjects: readonly Subject[]): ReviewFinding[] {
  return subjects.flatMap((subject) => {
    const { facts, execution } = subject
    if (!facts || facts.kind === 'select' || !isDropped(fn, subject)) return []
    const said =
      execution.language === 'python'
        ? `${fn.name} does not await it, so it is never run.`
        : `${fn.name} does not await it: what follows does not wait for it, and nobody learns of its error.`
    return [
      finding(subject, 'not-awaited', execution.language === 'python' ? 'error' : 'warning', execution.place, said),
    ]
  })
}

/** Whether a run gives a promise that is dropped at once. */
function isDropped(fn: FunctionFacts, { execution, read }: Subject): boolean {
  const { language, runs, receiver, handle } = execution
  if (!runs.some((run) => run.isDropped)) return false
  switch (language) {
    case 'typescript':
    case 'tsx':
    case 'javascript':
      return isAsync(fn)
    case 'python':
      // Drivers that wait are called in such functions too.
      return (
        isAsync(fn) &&
        (read.placeholders.some(({ style }) => style === 'dollar') || fn.code.includes(`await ${handle ?? receiver}.`))
      )
    case 'csharp':
      return runs.some((run) => run.isDropped && /Async$/.test(run.method))
    default:
      return false
  }
}

function isAsync(fn: FunctionFacts): boolean {
  return /^(?:[\w\s]*\s)?async\b/.test(fn.code.slice(0, 200)) || /\bawait\b/.test(fn.code)
}

function neverCommitted(fn: FunctionFacts, subjects: readonly Subject[]): ReviewFinding[] {
  const written = subjects.filter(writes)
  const [first] = written
  if (!first) return []
  const { language } = first.execution
  const has = (name: RegExp) => fn.calls.some((call) => name.test(call.name))
  const commits = has(/^commit(Async)?$/i) || /['"`;]\s*commit\b/i.test(fn.text)
  const rollsBack = has(/^roll_?back(Async)?$/i) || /['"`;]\s*rollback\b/i.test(fn.text)
  const say = (message: string, { execution } = first) => [
    finding(first, 'never-committed', 'error', execution.place, message),
  ]
  const begins =
    has(/^(beginTransaction|BeginTransaction|BeginTransactionAsync|begin_transaction)$/) ||
    (has(/^setAutoCommit$/) && /setAutoCommit\(\s*false/.test(fn.text)) ||
    /['"`]\s*(begin|start transaction)\b[^;'"`]*(?:;\s*)?['"`]/i.test(fn.text)
  if (language === 'python') {
    const opens = fn.calls.some((call) => call.name === 'connect' && /psycopg|pg8000|pgdb|^$/.test(call.receiver))
    const isManaged =
      /\bwith\s+(?!closing)(?:[\w.]*\.)?(connect\w*|conn\w*|transaction|begin)\s*(?:[(:,]|\bas\b)/.test(fn.text) ||
      /autocommit\s*=\s*True|\.begin\(|\.transaction\(/.test(fn.text)
    if (opens && !commits && !isManaged && !/return\s+conn|yield/.test(fn.text))
      return say(
        `${fn.name} opens a connection, writes, and never commits: the change is rolled back when it is closed.`,
      )
  }
  if (!begins || /\.transaction\(|\$transaction/.test(fn.text)) return []
  const begin = boundariesOf(fn).find(({ kind }) => kind === 'begin')
  const inside = written.find(({ execution }) => !begin || execution.at > begin.at)
  if (!inside) return []
  if (!commits) return say(`${fn.name} begins a transaction and never commits it.`, inside)
  // The end of a program, closing, or a block that ends it, rolls back what was not committed.
  if (fn.isFile) return []
  const ends = /\busing\s*\(|\busing\s+var|\bawait using|try\s*\(|\bwith\b/.test(fn.text) && language !== 'php'
  if (!rollsBack && !ends)
    return [
      finding(
        first,
        'never-committed',
        language === 'php' ? 'note' : 'warning',
        inside.execution.place,
        `${fn.name} does not roll back where a statement fails: the transaction stays open.`,
      ),
    ]
  return []
}

const BEGINS = /^\s*(?:begin|start\s+transaction)\b[^;]*(?:;\s*["'`]?)?$/i
const COMMITS = /^\s*(?:commit|end)\b/i
const ROLLS_BACK = /^\s*rollback\b/i

interface Boundary {
  kind: 'begin' | 'commit' | 'rollback'
  at: number
  arms: Run['arms']
  receiver: string
  isInFinally: boolean
}

/** Where a function begins and ends transactions: by statements, and by calls of the driver. */
function boundariesOf(fn: FunctionFacts): Boundary[] {
  return fn.calls.flatMap(({ name, receiver, at, arms, isInFinally, argument }) => {
    const text = /^(query|execute|exec|pg_query)$/.test(name) ? argument.replace(/^["'`]/, '') : ''
    const kind =
      /^begin_?transaction(async)?$/i.test(name) || BEGINS.test(text)
        ? 'begin'
        : /^commit(async)?$/i.test(name) || COMMITS.test(text)
          ? 'commit'
          : /^roll_?back(async)?$/i.test(name) || ROLLS_BACK.test(text)
            ? 'rollback'
            : undefined
    return kind ? [{ kind, at, arms, receiver, isInFinally }] : []
  })
}

/** A return between BEGIN and COMMIT hands the session on with the transaction open. */
function leftOpen(fn: FunctionFacts, subjects: readonly Subject[]): ReviewFinding[] {
  const [first] = subjects.filter(writes)
  // Elsewhere a block or the connection's end rolls back.
  if (!first || !/^(typescript|tsx|javascript|php)$/.test(first.execution.language)) return []
  const boundaries = boundariesOf(fn)
  const begin = boundaries.find(({ kind }) => kind === 'begin')
  const commit = boundaries.findLast(({ kind }) => kind === 'commit')
  const ends = boundaries.filter(({ kind }) => kind !== 'begin')
  if (
    !begin ||
    !commit ||
    ends.some(({ isInFinally }) => isInFinally) ||
    /\b(?:release|destroy|end)\((?:true|\w*err)/.test(fn.code)
  )
    return []
  return fn.returns
    .filter(
      ({ at, end, arms }) =>
        at > begin.at &&
        end < commit.at &&
        begin.arms.every(({ way }) => arms.some((arm) => arm.way === way)) &&
        // An end on the way to it, or in it.
        !ends.some(
          (each) =>
            each.at > begin.at && each.at < end && each.arms.every(({ way }) => arms.some((arm) => arm.way === way)),
        ),
    )
    .map(({ place }) =>
      finding(
        first,
        'never-committed',
        'error',
        place,
        `${fn.name} returns here with its transaction open: it is neither committed nor rolled back.`,
      ),
    )
}

/** Each call on a pool may take another session: BEGIN there begins nothing for the calls behind it. */
function begunOnPool(fn: FunctionFacts, subjects: readonly Subject[]): ReviewFinding[] {
  const [first] = subjects.filter(writes)
  if (!first || !/^(typescript|tsx|javascript)$/.test(first.execution.language)) return []
  const begin = boundariesOf(fn).find(({ kind, receiver }) => kind === 'begin' && /pool$/i.test(receiver))
  if (!begin || !/pool$/i.test(first.execution.receiver)) return []
  return [
    finding(
      first,
      'apart',
      'warning',
      first.execution.place,
      `${fn.name} begins its transaction on a pool: each call may take another session, and what it writes is outside the transaction. Take one client for all of it.`,
    ),
  ]
}

/** How many writes of one function are compared with one another. */
const MOST_COMPARED = 200

function apart(fn: FunctionFacts, subjects: readonly Subject[]): ReviewFinding[] {
  const written = subjects.filter(writes)
  // Branches that shut each other out write once.
  const second = written
    .slice(0, MOST_COMPARED)
    .find(({ execution }, at) => written.slice(0, at).some((before) => !areExclusive(before.execution, execution)))
  if (!second) return []
  const { language } = second.execution
  const isInTransaction =
    /beginTransaction|BeginTransaction|begin_transaction|setAutoCommit\(\s*false|['"`]\s*(begin|start transaction)\b|\.transaction\(|\.begin\(|\$transaction|TransactionScope|inTransaction|@Transactional|\bwith\s+[\w.]*conn\w*\s*[:,]|\bwith\s+[\w.]*connect\(|transactional|\btx\b|\btrx\b/i.test(
      fn.text,
    )
  if (isInTransaction) return []
  const say = (message: string) => [finding(second, 'apart', 'warning', second.execution.place, message)]
  // Drivers of this style have no transaction that nobody began.
  const isOwn = second.read.placeholders.some(({ style }) => style === 'dollar')
  if (language === 'python' && !isOwn) {
    // Each commit ends a transaction: between two writes it parts them.
    const commits = fn.calls.filter(({ name }) => name === 'commit')
    const between = commits.some(({ at }) => at > (written[0]?.execution.at ?? 0) && at < second.execution.at)
    const isAuto = /autocommit\s*=\s*True/.test(fn.text)
    return between || isAuto
      ? say(`${fn.name} commits between two writes: where the second fails, the first stays.`)
      : []
  }
  const receiver = second.execution.receiver
  const isGiven =
    /^(client|conn|connection|tx|trx|transaction|db)$/i.test(receiver.replace(/^\$?this->|^\$|^this\./, '')) &&
    isParameter(fn, receiver)
  if (isGiven) return []
  return say(
    `${fn.name} writes more than once, each time in a transaction of its own: where one fails, those before it stay.`,
  )
}

/** A connection that the caller hands in may be in a transaction already. */
function isParameter(fn: FunctionFacts, receiver: string): boolean {
  const head = fn.text.slice(0, fn.text.search(/[{:]\s*\n|=>/) + 1 || 200)
  return head.includes(receiver.replace(/^\$?this->|^this\./, ''))
}

function unboundedWait(
  { name }: Pick<FunctionFacts, 'name'>,
  subjects: readonly Subject[],
  hasLimits: boolean,
): ReviewFinding[] {
  if (hasLimits) return []
  return subjects.flatMap((subject) => {
    const { facts, execution } = subject
    const waits = facts?.locks?.waits === true
    return waits
      ? [
          finding(
            subject,
            'unbounded-wait',
            'warning',
            execution.place,
            `${name} waits for a lock for as long as it takes. Set lock_timeout for the transaction, or say nowait.`,
            `set local lock_timeout = '2s'`,
          ),
        ]
      : []
  })
}

function oneByOne(fn: FunctionFacts, subjects: readonly Subject[]): ReviewFinding[] {
  // A loop that goes on until nothing is left works in batches.
  const isEndless =
    subjects.some(({ execution }) => execution.loop !== null) && /\bwhile[\s(]*(true|True|1)\b/.test(fn.text)
  return subjects.flatMap((subject) => {
    const { facts, execution } = subject
    if (
      execution.loop === null ||
      execution.endsPath ||
      !facts ||
      !['select', 'insert', 'update', 'delete'].includes(facts.kind)
    )
      return []
    if (facts.parameters.size === 0 && subject.read.pasted.length === 0) return []
    // Tried again, and not for each of many.
    const { roundNames, bound } = execution
    const values =
      bound.kind === 'positional' ? [...bound.values, ...subject.read.pasted.map(({ value }) => value)] : null
    if (values && roundNames && !namesAny(values, roundNames)) return []
    if (facts.hasLimit || isEndless) return []
    const way = {
      insert: 'values of many rows, or unnest',
      update: 'from unnest(…)',
      delete: 'where … = any(…)',
      select: 'where … = any(…)',
    }[facts.kind as 'insert']
    return [
      finding(
        subject,
        'one-by-one',
        'warning',
        execution.place,
        `${fn.name} runs it once for each round of a loop. One statement does all: ${way}.`,
      ),
    ]
  })
}

function sessionKept(fn: FunctionFacts, subjects: readonly Subject[]): ReviewFinding[] {
  const first = subjects.find(({ facts }) => facts?.kind !== 'transaction')
  // What a program holds ends with it.
  if (!first || fn.isFile) return []
  const { language } = first.execution
  const taken = fn.calls.find(({ name, receiver, argument }) => {
    if (language === 'typescript' || language === 'tsx' || language === 'javascript')
      return name === 'connect' && /pool/i.test(receiver)
    if (language === 'python') return (name === 'connect' && /psycopg|pg8000/.test(receiver)) || name === 'getconn'
    if (language === 'java') return name === 'getConnection'
    return (
      language === 'csharp' &&
      /^(NpgsqlConnection|OpenConnection|OpenConnectionAsync|CreateConnection)$/.test(name) &&
      argument !== undefined
    )
  })
  if (!taken || taken.isInWith) return []
  const given = fn.calls.filter(({ name }) =>
    /^(release|close|end|putconn|Dispose|DisposeAsync|Close|CloseAsync|closeQuietly|destroy)$/.test(name),
  )
  const isReturned = /return\s+(new\s+)?\w*(conn|client|connection)\w*[^\S\n]*(?:;[^\S\n]*)?(\}|$|\n)/i.test(fn.text)
  if (
    isReturned ||
    given.some(({ isInFinally }) => isInFinally) ||
    /\bwith\s+(?:contextlib\.)?closing|contextmanager|\byield\b/.test(fn.text)
  )
    return []
  const place = first.execution.place
  return [
    finding(
      first,
      'session-kept',
      'warning',
      place,
      given.length === 0
        ? `${fn.name} takes a connection and never hands it back.`
        : `${fn.name} hands its connection back only where nothing fails: do it in a finally block.`,
    ),
  ]
}
