import { namesAny } from '../extract/loops.js'
import type { ReviewFinding } from '@ledgerman/contract'
import type { FunctionFacts } from '../extract/facts.js'
import { isCountLookedAt } from './counts.js'
import { finding, withArticle, type Subject } from './finding.js'
import { scriptNeverCommitted, transactionFindings } from './transaction-rules.js'

/** What a function does with the statements it runs. */
export function flowFindings(fn: FunctionFacts, subjects: readonly Subject[], hasLimits: boolean): ReviewFinding[] {
  if (subjects.length === 0) return []
  return [countIgnored, notAwaited, transactionFindings, unboundedWait, oneByOne, sessionKept].flatMap((rule) =>
    rule(fn, subjects, hasLimits),
  )
}

/** What the statements of an SQL file do, one after the other. */
export function scriptFindings(subjects: readonly Subject[], hasLimits: boolean): ReviewFinding[] {
  return [...unboundedWait({ name: 'This file' }, subjects, hasLimits), ...scriptNeverCommitted(subjects)]
}

/** Whether a file sets limits for waiting somewhere. */
export function setsLimits(text: string): boolean {
  return /lock_timeout|statement_timeout|command_?timeout|query_timeout|setQueryTimeout|CommandTimeout/i.test(text)
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
