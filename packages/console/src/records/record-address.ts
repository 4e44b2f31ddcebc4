import type { RouteLocationNamedRaw } from 'vue-router'
import { propertyToText } from '@ledgerman/client'
import { isSwallowed, toRecordAddress, type RecordValues } from '@ledgerman/contract'

/** A record's address: its key values as text, in key order. */
export function addressOf(key: readonly string[], record: RecordValues): string {
  return toRecordAddress(key.map((name) => propertyToText(record[name])))
}

/** What stands before an address that a path would swallow (empty, `.`, `..`): no address has it, since its percent signs are of an encoding. */
const KEPT = '%-'

/** The page of a record, by its address. */
export function recordRoute(target: string, mapping: string, address: string): RouteLocationNamedRaw {
  const key = isSwallowed(address) ? `${KEPT}${address}` : address
  return { name: 'record', params: { target, mapping, key } }
}

/** The page of the record with this key, in key order. */
export function recordRouteOf(target: string, mapping: string, key: RecordValues | null): RouteLocationNamedRaw {
  return recordRoute(target, mapping, addressOf(Object.keys(key ?? {}), key ?? {}))
}

/** The address that a record's page was opened with. */
export function addressFrom(param: unknown): string {
  const text = String(param)
  return text.startsWith(KEPT) ? text.slice(KEPT.length) : text
}
