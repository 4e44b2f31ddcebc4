import { LRUCache } from 'lru-cache'
import type { RecordValues } from '@ledgerman/contract'
import type { KeyTexts, Mapping } from '../../mapping/mapping.js'
import { buildAdd } from '../../statement/build-add.js'
import { buildKeyedWrite, type KeyedShape } from '../../statement/build-keyed-write.js'
import type { KeyedStatement } from '../../statement/keyed-statement.js'
import type { Target } from '../../target/target.js'
import { parseAddSet, parseChangeSet, parseExpected, parseReplacement, type WriteSet } from './change-input.js'
import { guardRequired, keyMismatch } from './change-problems.js'
import type { GuardCondition } from '../../mapping/guard-value.js'
import { assertKeyed } from './record-key.js'
import { runKeyedStep } from './run-keyed-step.js'
import type { KeyedResult, RunOptions } from './keyed-step.js'

/** Which record, in which state. */
export interface RecordCondition {
  key: KeyTexts
  /** The state of the record the caller knows; it may only be left out where the mapping has no guard. */
  guard: GuardCondition | undefined
  /** Values the record has to have: what was loaded, or is tested. A difference refuses like a guard that differs. */
  loaded?: RecordValues
}

export interface ChangeRequest extends RecordCondition, RunOptions {
  /** The properties to set, in JSON form. */
  values: RecordValues
  /** Whether an object for a json property sets only the members it names (RFC 7396). */
  isMerge?: boolean
}

/**
 * Changes the named properties of one record, and proves it. The record is written only where its guard holds and its image
 * would differ.
 *
 * @throws LedgermanProblem with the receipt as far as the run got: no-such-record, record-changed, constraint-broken,
 *   rule-broken, row-not-written, lock-timeout, time-limit, target-unavailable, outcome-unknown; without one, since nothing
 *   was sent: guard-required, request-invalid, value-invalid, no-key, book-not-prepared.
 */
export async function changeRecord(target: Target, mapping: Mapping, request: ChangeRequest): Promise<KeyedResult> {
  await assertReady(target, mapping, request)
  const set = parseChangeSet(mapping, request.values, request.isMerge ?? false)
  const expected = parseExpected(mapping, request.loaded ?? {})
  return runChange(target, mapping, 'change', request, set, expected, request.values)
}

/**
 * Replaces every writable property of one record. What cannot be set may be named too, with the value it has.
 *
 * @throws LedgermanProblem as `changeRecord`; request-invalid with the properties that would have been lost.
 */
export async function replaceRecord(
  target: Target,
  mapping: Mapping,
  request: Omit<ChangeRequest, 'isMerge'>,
): Promise<KeyedResult> {
  await assertReady(target, mapping, request)
  const { set, kept } = parseReplacement(mapping, request.values)
  const expected = parseExpected(mapping, { ...request.loaded, ...kept })
  for (const property of mapping.key) {
    const given = expected.texts.get(property.name)
    if (given !== undefined && given !== request.key.get(property.name)) throw keyMismatch(mapping, property)
  }
  return runChange(target, mapping, 'replace', request, set, expected, request.values)
}

/**
 * Removes one record.
 *
 * @throws LedgermanProblem as `changeRecord`.
 */
export async function removeRecord(
  target: Target,
  mapping: Mapping,
  request: RecordCondition & RunOptions,
): Promise<KeyedResult> {
  await assertReady(target, mapping, request)
  const expected = parseExpected(mapping, request.loaded ?? {})
  const shape: KeyedShape = {
    kind: 'remove',
    set: [],
    merges: NOTHING.merges,
    expected: expected.properties,
    guarded: isGuarded(request),
  }
  const statement = builtOnce(mapping, request.mode, `remove ${shape.guarded} ${names(expected)}`, (isBooked) =>
    buildKeyedWrite(mapping, shape, isBooked),
  )
  return runKeyedStep(
    target,
    mapping,
    {
      statement,
      key: request.key,
      set: NOTHING,
      expected,
      guard: request.guard ?? 'any',
      yours: {},
      loaded: request.loaded ?? {},
    },
    request,
  )
}

/**
 * Adds one record. Columns that are not named get their defaults.
 *
 * @throws LedgermanProblem constraint-broken, rule-broken, row-not-written, request-invalid, value-invalid, book-not-prepared
 */
export async function addRecord(
  target: Target,
  mapping: Mapping,
  request: { values: RecordValues } & RunOptions,
): Promise<KeyedResult> {
  await assertBook(target, request)
  const set = parseAddSet(mapping, request.values)
  const statement = builtOnce(mapping, request.mode, `add ${names(set)}`, (isBooked) =>
    buildAdd(mapping, set.properties, isBooked),
  )
  return runKeyedStep(
    target,
    mapping,
    { statement, key: new Map(), set, expected: NOTHING, guard: 'any', yours: request.values, loaded: {} },
    request,
  )
}

const NOTHING: WriteSet = { properties: [], texts: new Map(), merges: new Map(), merged: [] }

function runChange(
  target: Target,
  mapping: Mapping,
  kind: 'change' | 'replace',
  request: RecordCondition & RunOptions,
  set: WriteSet,
  expected: WriteSet,
  yours: RecordValues,
): Promise<KeyedResult> {
  const shape: KeyedShape = {
    kind,
    set: set.properties,
    merges: set.merges,
    expected: expected.properties,
    guarded: isGuarded(request),
  }
  const build = (isBooked: boolean) => buildKeyedWrite(mapping, shape, isBooked)
  // A merge has a shape of its own nearly every time: it is neither kept nor prepared.
  const statement =
    set.merges.size > 0
      ? unprepared(build(request.mode === 'commit'))
      : builtOnce(mapping, request.mode, `${kind} ${shape.guarded} ${names(set)} / ${names(expected)}`, build)
  return runKeyedStep(
    target,
    mapping,
    { statement, key: request.key, set, expected, guard: request.guard ?? 'any', yours, loaded: request.loaded ?? {} },
    request,
  )
}

async function assertReady(target: Target, mapping: Mapping, request: RecordCondition & RunOptions): Promise<void> {
  assertKeyed(mapping)
  if (request.guard === undefined && mapping.guard.by !== 'none') throw guardRequired(mapping)
  await assertBook(target, request)
}

async function assertBook(target: Target, { mode }: RunOptions): Promise<void> {
  if (mode === 'commit') await target.assertBook()
}

function isGuarded({ guard }: RecordCondition): boolean {
  return guard !== undefined && guard !== 'any'
}

function names({ properties }: WriteSet): string {
  return properties.map((property) => property.name).join(' ')
}

/** As many statements as are kept of one mapping: callers who set other properties each time make another one each. */
const MOST_BUILT = 200
const built = new WeakMap<Mapping, LRUCache<string, KeyedStatement>>()

/** Builds a statement, or finds the one built for the same question. */
function builtOnce(
  mapping: Mapping,
  mode: RunOptions['mode'],
  question: string,
  build: (isBooked: boolean) => KeyedStatement,
): KeyedStatement {
  let known = built.get(mapping)
  if (!known) built.set(mapping, (known = new LRUCache({ max: MOST_BUILT })))
  const key = `${mode} ${question}`
  let statement = known.get(key)
  if (!statement) known.set(key, (statement = build(mode === 'commit')))
  return statement
}

function unprepared(statement: KeyedStatement): KeyedStatement {
  return { ...statement, run: { ...statement.run, name: '' } }
}
