import { LedgermanProblem, parsePrinted, printJson, RawJson, type Json } from '@ledgerman/contract'
import { isSameJson } from '../../values/same-json.js'

/** One operation of a JSON Patch (RFC 6902, section 4). */
export type PatchOperation =
  | { op: 'add' | 'replace' | 'test'; path: string; value: Json }
  | { op: 'remove'; path: string }
  | { op: 'move' | 'copy'; from: string; path: string }

type Container = { [name: string]: Json } | Json[]

/** What a failed test says beside itself: the record as it is. */
interface TestContext {
  mapping: string
  /** Whether a property's value must not be shown. */
  isSensitive: (property: string) => boolean
  guard: string | null
  /** What the operations of a patch copied so far. */
  copied: CopiedSize
}

/** How many characters all copies of a patch may come to: each can copy what the one before it made, and double it. */
const MOST_COPIED = 1_000_000

/** Counts what a patch copies, so that a small one cannot ask for more than there is room for. */
export class CopiedSize {
  #size = 0

  /** @throws the patch's own refusal where it is too much */
  add(value: Json, fail: (message: string) => LedgermanProblem): void {
    this.#size += printJson(value).length
    if (this.#size > MOST_COPIED) throw fail(`the copies of a patch come to more than ${MOST_COPIED} characters`)
  }
}

/**
 * The parts of a JSON Pointer (RFC 6901). The first is a property's name.
 *
 * @throws LedgermanProblem request-invalid
 */
export function readPointer(pointer: string, at: number): string[] {
  const parts = pointer.split('/').slice(1)
  if (!pointer.startsWith('/') || parts[0] === '' || /~(?![01])/.test(pointer)) {
    throw new LedgermanProblem(
      'request-invalid',
      `Operation ${at + 1}: expected a JSON Pointer to a property, such as /hoursLeft, got "${pointer}".`,
      { where: `${at}.path` },
    )
  }
  return parts.map((part) => part.replaceAll('~1', '/').replaceAll('~0', '~'))
}

/**
 * Applies one operation to a record's values, in place. A property cannot be added or taken away: `remove` sets it to null.
 *
 * @throws LedgermanProblem request-invalid where the path does not lead anywhere; record-changed where a test fails.
 */
export function applyOperation(
  record: { [name: string]: Json },
  operation: PatchOperation,
  at: number,
  context: TestContext,
): void {
  const fail = (message: string) =>
    new LedgermanProblem('request-invalid', `Operation ${at + 1} (${operation.op} ${operation.path}): ${message}.`, {
      where: `${at}.path`,
    })
  const parts = readPointer(operation.path, at)
  switch (operation.op) {
    case 'test': {
      const current = valueAt(record, parts, fail)
      if (isSameJson(current, operation.value)) return
      // A property by its name, as in every conflict; what is inside one by its pointer.
      const [property = '', ...inside] = parts
      const shown = inside.length === 0 ? property : operation.path
      throw new LedgermanProblem(
        'record-changed',
        `The test of ${operation.path} fails: the record of ${context.mapping} has another value there. Nothing was changed.`,
        {
          mapping: context.mapping,
          operation: at,
          path: operation.path,
          ...(context.isSensitive(property)
            ? { tested: {}, current: {} }
            : { tested: { [shown]: operation.value }, current: { [shown]: current } }),
          yours: {},
          loaded: {},
          guard: context.guard,
          matched: 1,
        },
      )
    }
    case 'add':
    case 'replace':
      return place(record, parts, operation.value, operation.op, fail)
    case 'remove':
      return void take(record, parts, fail)
    case 'copy': {
      const copied = valueAt(record, readPointer(operation.from, at), fail)
      context.copied.add(copied, fail)
      return place(record, parts, copied, 'add', fail)
    }
    case 'move':
      return place(record, parts, take(record, readPointer(operation.from, at), fail), 'add', fail)
  }
}

type Fail = (message: string) => LedgermanProblem

function valueAt(record: { [name: string]: Json }, parts: string[], fail: Fail): Json {
  const { container, name } = reach(record, parts, fail)
  const value = Array.isArray(container)
    ? container[indexOf(name, container.length - 1, fail)]
    : Object.hasOwn(container, name)
      ? container[name]
      : undefined
  if (value === undefined) throw fail('there is nothing at this path')
  return value
}

function place(
  record: { [name: string]: Json },
  parts: string[],
  value: Json,
  op: 'add' | 'replace',
  fail: Fail,
): void {
  const { container, name } = reach(record, parts, fail)
  if (Array.isArray(container)) {
    const index =
      op === 'add' && name === '-' ? container.length : indexOf(name, container.length - (op === 'add' ? 0 : 1), fail)
    container.splice(index, op === 'add' ? 0 : 1, value)
  } else {
    if (op === 'replace' && !Object.hasOwn(container, name)) throw fail('there is nothing to replace at this path')
    put(container, name, value)
  }
}

/** A member of any name: assigning to `__proto__` would set something else. */
function put(container: Container, name: string | number, value: Json): void {
  Object.defineProperty(container, name, { value, enumerable: true, configurable: true, writable: true })
}

function take(record: { [name: string]: Json }, parts: string[], fail: Fail): Json {
  const value = valueAt(record, parts, fail)
  const { container, name } = reach(record, parts, fail)
  if (Array.isArray(container)) container.splice(Number(name), 1)
  else if (container === record) container[name] = null
  else delete container[name]
  return value
}

/** The object or array that the last part is in. Json that travelled as text is opened on the way, and only there. */
function reach(record: { [name: string]: Json }, parts: string[], fail: Fail): { container: Container; name: string } {
  let container: Container = record
  for (const name of parts.slice(0, -1)) {
    const index: string | number = Array.isArray(container) ? indexOf(name, container.length - 1, fail) : name
    const held: Json | undefined = Object.hasOwn(container, index)
      ? (container as Record<string | number, Json>)[index]
      : undefined
    const opened: Json | undefined = held instanceof RawJson ? parsePrinted(held.text) : structuredCopy(held)
    if (opened === null || typeof opened !== 'object' || opened instanceof RawJson) throw fail(`${name} has no parts`)
    put(container, index, opened)
    container = opened
  }
  return { container, name: parts.at(-1) ?? '' }
}

/** A copy one level deep, so that the record as it was loaded stays as it was. */
function structuredCopy(value: Json | undefined): Json | undefined {
  if (Array.isArray(value)) return [...value]
  return value !== null && typeof value === 'object' && !(value instanceof RawJson) ? { ...value } : value
}

function indexOf(name: string, most: number, fail: Fail): number {
  if (/^(0|[1-9]\d*)$/.test(name) && Number(name) <= most) return Number(name)
  throw fail(`expected an index up to ${most}, got ${name}`)
}
