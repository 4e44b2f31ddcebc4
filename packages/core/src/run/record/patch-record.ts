import { isProblem, LedgermanProblem, type Json, type RecordValues } from '@ledgerman/contract'
import { recordRefusal } from '../../book/record-refusal.js'
import type { Mapping } from '../../mapping/mapping.js'
import { applyOperation, CopiedSize, readPointer, type PatchOperation } from './json-patch.js'
import type { Target } from '../../target/target.js'
import { getProperty } from './change-input.js'
import { loadRecord } from './load-record.js'
import { toReceipt } from '../../book/receipt.js'
import { showable } from '../../mapping/showable.js'
import { toHeader } from './run-keyed-step.js'
import type { KeyedResult, RunOptions } from './keyed-step.js'
import { changeRecord, type RecordCondition } from './write-record.js'

/**
 * Changes one record by JSON Patch (RFC 6902). The patch is applied to the record as it is; every property it reads, tests
 * or sets has to be like that still when the change is written, so `test` is a compare-and-set.
 *
 * @throws LedgermanProblem as `changeRecord`; record-changed where a test fails; request-invalid for a path that does not
 *   lead anywhere.
 */
export async function patchRecord(
  target: Target,
  mapping: Mapping,
  operations: readonly PatchOperation[],
  request: RecordCondition & RunOptions,
): Promise<KeyedResult> {
  if (operations.length === 0)
    throw new LedgermanProblem('request-invalid', 'The patch has no operation.', { where: 'body' })
  const { record, guard } = await loadRecord(target, mapping, request.key)
  const patched: { [name: string]: Json } = { ...(record as { [name: string]: Json }) }
  const loaded: RecordValues = { ...request.loaded }
  const values: RecordValues = {}
  const context = {
    mapping: mapping.name,
    guard,
    copied: new CopiedSize(),
    isSensitive: (name: string) => mapping.byName.get(name)?.sensitive === true,
  }
  try {
    operations.forEach(applyOne)
  } catch (error) {
    throw isProblem(error, 'record-changed') ? await refusedPatch(target, mapping, request, error) : error
  }

  if (Object.keys(values).length === 0) {
    // Only tests: they held when the record was read, and setting a tested property to itself holds them to it.
    const [name = ''] = Object.keys(loaded).filter((each) => mapping.byName.get(each)?.lockedBecause === null)
    if (name === '')
      throw new LedgermanProblem('request-invalid', 'The patch tests and changes nothing.', { where: 'body' })
    values[name] = record[name]
  }
  return changeRecord(target, mapping, { ...request, loaded, values })

  function applyOne(operation: PatchOperation, at: number): void {
    for (const path of 'from' in operation ? [operation.from, operation.path] : [operation.path]) {
      const [name = ''] = readPointer(path, at)
      getProperty(mapping, name)
      loaded[name] = record[name]
    }
    applyOperation(patched, operation, at, context)
    const writes =
      operation.op === 'test' ? [] : operation.op === 'move' ? [operation.from, operation.path] : [operation.path]
    for (const path of writes) {
      const [name = ''] = readPointer(path, at)
      values[name] = patched[name]
    }
  }
}

/** A test that fails is a refusal like any other: it has its receipt, and its entry. */
async function refusedPatch(
  target: Target,
  mapping: Mapping,
  { mode, actor, note, key }: RecordCondition & RunOptions,
  problem: LedgermanProblem,
): Promise<LedgermanProblem> {
  const header = toHeader(target, mapping, { mode, actor, ...(note === undefined ? {} : { note }) })
  const receipt = toReceipt(header, 'refused', null, [], null)
  const record = {
    mapping,
    key: mapping.key.map((property) => showable(target, property, key.get(property.name) ?? null)),
  }
  const isBooked =
    mode === 'commit' &&
    (await recordRefusal(target, {
      id: header.id,
      actor,
      note: header.note,
      problem,
      detail: problem.detail,
      matched: 1,
      record,
    }))
  if (!isBooked) receipt.entry = null
  return problem.with({ receipt })
}
