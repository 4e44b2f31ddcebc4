import { LedgermanProblem, type RecordValues } from '@ledgerman/contract'
import { keyInRow, valuesInKey } from '../../mapping/key-in-row.js'
import type { Mapping } from '../../mapping/mapping.js'
import type { DatabaseError } from '../../sessions/database-error.js'
import { failingRow, isStillReferenced, referredKey } from '../../sessions/database-words.js'
import { inRecord, namesInWords } from '../../mapping/in-record.js'

/** The SQLSTATE of a foreign key that is broken, from either side. */
const REFERENCE = '23503'

/** A problem of many records, with the one that the database says it is about, where that can be told for certain. */
export function inFailingRow(problem: LedgermanProblem, error: DatabaseError, mapping: Mapping): LedgermanProblem {
  const names = namesOfFailingRow(error, mapping)
  if (!names) return problem
  const isKey = mapping.key.every(({ name }) => Object.hasOwn(names, name))
  const facts = isKey ? { ...problem.facts, key: names } : problem.facts
  const isReferred = error.code === REFERENCE
  const words = isReferred
    ? `${problem.detail} The ${mapping.name} has ${namesInWords(names)}.`
    : inRecord(problem.detail, names)
  return new LedgermanProblem(problem.code, words, facts, { cause: error })
}

/** What names the row that breaks a check, may not be null, or is still referred to: its key, or what refers to it. */
function namesOfFailingRow(error: DatabaseError, mapping: Mapping): RecordValues | undefined {
  const { table } = mapping
  if (error.code === REFERENCE) {
    const isOver = ({ name }: { name: string }) => name === error.constraint
    const isReferred = table.referencedBy.some(isOver) && (!table.references.some(isOver) || isStillReferenced(error))
    const referred = isReferred ? referredKey(error) : undefined
    return referred && valuesInKey(mapping, referred)
  }
  if (error.table !== table.name || error.schema !== table.schema) return undefined
  return keyInRow(mapping, failingRow(error) ?? '')
}
