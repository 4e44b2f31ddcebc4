import { areExclusive } from '../extract/paths.js'
import type { ReviewFinding } from '@ledgerman/contract'
import type { FunctionFacts, Run } from '../extract/facts.js'
import { finding, type Subject } from './finding.js'

/** What a function does with transactions. */
export function transactionFindings(fn: FunctionFacts, subjects: readonly Subject[]): ReviewFinding[] {
  const boundaries = boundariesOf(fn)
  return [neverCommitted, leftOpen, apart, begunOnPool, besideTransaction].flatMap((rule) =>
    rule(fn, subjects, boundaries),
  )
}

/** A transaction that is open at the end of the file is rolled back with the session. */
export function scriptNeverCommitted(subjects: readonly Subject[]): ReviewFinding[] {
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

function writes({ facts }: Subject): boolean {
  return facts !== undefined && ['insert', 'update', 'delete', 'merge'].includes(facts.kind)
}

function neverCommitted(
  fn: FunctionFacts,
  subjects: readonly Subject[],
  boundaries: readonly Boundary[],
): ReviewFinding[] {
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
  const begin = boundaries.find(({ kind }) => kind === 'begin')
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
function leftOpen(fn: FunctionFacts, subjects: readonly Subject[], boundaries: readonly Boundary[]): ReviewFinding[] {
  const [first] = subjects.filter(writes)
  // Elsewhere a block or the connection's end rolls back.
  if (!first || !/^(typescript|tsx|javascript|php)$/.test(first.execution.language)) return []
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
function begunOnPool(
  fn: FunctionFacts,
  subjects: readonly Subject[],
  boundaries: readonly Boundary[],
): ReviewFinding[] {
  const [first] = subjects.filter(writes)
  if (!first || !/^(typescript|tsx|javascript)$/.test(first.execution.language)) return []
  const begin = boundaries.find(({ kind, receiver }) => kind === 'begin' && /pool$/i.test(receiver))
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

/** What is written through the pool while a client that it gave is in a transaction: it takes another session, and is kept whatever becomes of that. */
function besideTransaction(
  fn: FunctionFacts,
  subjects: readonly Subject[],
  boundaries: readonly Boundary[],
): ReviewFinding[] {
  const written = subjects.filter(writes)
  if (!/^(typescript|tsx|javascript)$/.test(written[0]?.execution.language ?? '')) return []
  const spans = [...spansOfClients(fn, boundaries), ...spansOfCallbacks(fn)]
  return written.flatMap((subject) => {
    const { at, receiver, place } = subject.execution
    const span = spans.find((each) => at > each.from && at < each.to && each.isBeside(receiver))
    return span
      ? [
          finding(
            subject,
            'apart',
            'warning',
            place,
            `${fn.name} writes this through ${receiver}, which is outside the transaction of ${span.client}: it is kept where that is rolled back.`,
          ),
        ]
      : []
  })
}

/** A part of a function, from and to a place of the file, in which a client is in a transaction. */
interface TransactionSpan {
  from: number
  to: number
  client: string
  /** Whether what is called on this is no part of it. */
  isBeside(receiver: string): boolean
}

/** From BEGIN to the last COMMIT on a client: what gave the client is beside it. */
function spansOfClients(fn: FunctionFacts, boundaries: readonly Boundary[]): TransactionSpan[] {
  const begin = boundaries.find(({ kind }) => kind === 'begin')
  const commit = boundaries.findLast(({ kind }) => kind === 'commit')
  const pool = fn.calls.find(({ name }) => /^(connect|getConnection|acquire)$/.test(name))?.receiver
  if (!begin || !commit || pool === undefined || pool === '' || pool === begin.receiver) return []
  return [{ from: begin.at, to: commit.at, client: begin.receiver, isBeside: (receiver) => receiver === pool }]
}

/** A call that is given a function, and the first parameter of that. */
const WITH_CALLBACK = /\b(\w+)\s*\(\s*(?:async\b\s*)?(?:\(\s*)?(\w+)/g
/** How many such calls are looked at. */
const MOST_CALLBACKS = 50

/** What a callback does with the client that it is given: a pool is beside it. */
function spansOfCallbacks({ code, from }: FunctionFacts): TransactionSpan[] {
  const calls = [...code.matchAll(WITH_CALLBACK)].filter(([, name = '']) => /transaction/i.test(name))
  return calls.slice(0, MOST_CALLBACKS).flatMap((found) => {
    const [call, , client = ''] = found
    const open = found.index + call.indexOf('(')
    const to = closingOf(code, open)
    const isUsed = new RegExp(`\\b${client}\\.`).test(code.slice(open, to))
    return isUsed ? [{ from: from + open, to: from + to, client, isBeside: (receiver) => /pool$/i.test(receiver) }] : []
  })
}

/** Where the parenthesis at this place is closed; the end of the code where it is not. */
function closingOf(code: string, open: number): number {
  let depth = 0
  for (let at = open; at < code.length; at++) {
    if (code[at] === '(') depth++
    else if (code[at] === ')' && --depth === 0) return at
  }
  return code.length
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
