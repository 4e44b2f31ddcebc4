import { reactive } from 'vue'
import type { ListView } from './useListView.js'

/** The page of a list that was last looked at: what "back", "next" and "previous" in a record's form refer to. */
interface ListPlace {
  target: string
  mapping: string
  /** Filter, order, columns and page, as they stood in its address. */
  view: Partial<ListView>
  /** Each record's address, in the order of the list. */
  addresses: string[]
  /** Addresses of the records changed since the list was opened, to be marked in it. */
  changed: Set<string>
}

const place = reactive<ListPlace>({ target: '', mapping: '', view: {}, addresses: [], changed: new Set() })

export function useListPlace() {
  function remember(target: string, mapping: string, view: ListView, addresses: string[]): void {
    if (place.target !== target || place.mapping !== mapping) place.changed.clear()
    Object.assign(place, { target, mapping, view, addresses })
  }

  function isOf(target: string, mapping: string): boolean {
    return place.target === target && place.mapping === mapping
  }

  /** The record before (-1) or behind (1) that one in the list; undefined at its ends, or where no list was looked at. */
  function neighbour(target: string, mapping: string, address: string, step: -1 | 1): string | undefined {
    const at = isOf(target, mapping) ? place.addresses.indexOf(address) : -1
    return at < 0 ? undefined : place.addresses[at + step]
  }

  return { place, remember, isOf, neighbour }
}
