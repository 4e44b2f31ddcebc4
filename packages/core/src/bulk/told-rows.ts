import { LedgermanProblem, type Expectation, type FailedRow, type RowReceipt } from '@ledgerman/contract'
import type { Property } from '../mapping/mapping.js'
import { toRowReceipt } from '../mapping/row-receipt.js'
import { showable } from '../mapping/showable.js'
import { shownRecord } from '../mapping/record-row.js'
import { unexpected } from '../run/steps/expectation.js'
import type { Target } from '../target/target.js'
import type { BulkShape } from './bulk-shape.js'

/** Rows that were not applied in the order of their file. */
export function inLineOrder(rows: readonly FailedRow[]): FailedRow[] {
  return [...rows].sort((one, other) => (one.line ?? 0) - (other.line ?? 0))
}

/** How rows of a change of many are told: in receipts, in reports, in problems. */
export class ToldRows {
  constructor(
    readonly target: Target,
    readonly shape: BulkShape,
  ) {}

  /** Receipts of rows as the statements give them: line, key, then columns before and after. */
  rows(rows: readonly (readonly (string | null)[])[], isAdd = false): RowReceipt[] {
    const { mapping, kind, touched, set } = this.shape
    const sides = isAdd ? mapping.properties : touched
    const wide = mapping.key.length
    return rows.map(([, ...texts]) => {
      const before = texts.slice(wide, wide + sides.length)
      const after = texts.slice(wide + sides.length)
      return toRowReceipt(
        mapping,
        {
          key: this.#shown(texts.slice(0, wide), mapping.key),
          touched: sides,
          before: isAdd ? null : this.#shown(before, sides),
          after: kind === 'remove' && !isAdd ? null : this.#shown(after, sides),
        },
        (property) => set.includes(property),
      )
    })
  }

  key(texts: readonly (string | null)[]): FailedRow['key'] {
    const { key } = this.shape.mapping
    return shownRecord(key, this.#shown(texts, key))
  }

  /** What a row was left with and what it is, by the properties that differ; texts as the images have them. */
  sides(properties: readonly Property[], left: readonly (string | null)[], now: readonly (string | null)[] | null) {
    if (now === null) return { left: shownRecord(properties, left), now: null }
    const places = properties.flatMap((_, at) => (left[at] === now[at] ? [] : [at]))
    const differing = places.map((at) => properties[at] as Property)
    const pick = (texts: readonly (string | null)[]) => places.map((at) => texts[at] ?? null)
    return { left: shownRecord(differing, pick(left)), now: shownRecord(differing, pick(now)) }
  }

  /**
   * Why a row is not as its line says it was.
   *
   * @param differing which of what the line cannot change differs, by their places, with commas; where none does, its guard does.
   */
  conflictWords(differing: string | null): string {
    const { kept, left } = this.shape.given ?? { kept: [], left: undefined }
    if (left) return 'It was changed since.'
    const names = (differing ?? '').split(',').flatMap((at) => (at === '' ? [] : (kept[Number(at)]?.name ?? [])))
    if (names.length === 0) return 'It was changed since its guard was read.'
    return `It is not as in the file: ${names.join(', ')} ${names.length === 1 ? 'differs' : 'differ'}.`
  }

  /** The problem for rows of a part that is all or nothing: the first of so many that cannot be applied. */
  notApplied(first: FailedRow, count: number, matched: number): LedgermanProblem {
    const { mapping, given } = this.shape
    const key = Object.values(first.key).map(String).join(',')
    // What is put back out of images has no lines that anybody knows.
    const line = given?.left ? null : first.line
    const place = line === null ? `${mapping.name} ${key}` : `line ${line} (${key})`
    const others = count === 1 ? '' : ` ${count - 1} more ${count === 2 ? 'row' : 'rows'} cannot be applied either.`
    return new LedgermanProblem(first.code, `${place}: ${first.reason}${others} Nothing was changed.`, {
      mapping: mapping.name,
      ...(line === null ? {} : { line }),
      key: first.key,
      failed: count,
      matched,
    })
  }

  unexpected(expect: Expectation, matched: number): LedgermanProblem {
    const what = this.shape.mapping.name
    const told = unexpected({ step: 1, what, expect, matched, sampleKeys: [], isKeyed: false, key: {} })
    const words = told.detail.replace(/^Step 1:? /, '')
    return new LedgermanProblem(told.code, words.charAt(0).toUpperCase() + words.slice(1), told.facts)
  }

  #shown(texts: readonly (string | null)[], properties: readonly Property[]): (string | null)[] {
    return properties.map((property, at) => showable(this.target, property, texts[at] ?? null))
  }
}
