import { propertyToText } from '@ledgerman/client'
import { toRecordAddress, type RecordValues } from '@ledgerman/contract'

/** A record's address: its key values as text, in key order. */
export function addressOf(key: readonly string[], record: RecordValues): string {
  return toRecordAddress(key.map((name) => propertyToText(record[name])))
}
