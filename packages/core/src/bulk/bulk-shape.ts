import type { Images } from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import type { Roundings } from '../plan/roundings.js'
import type { Joins } from '../statement/joins.js'
import type { SlotList } from '../statement/statement.js'

/** What a change or removal of many rows is made of, with no value in it. */
export interface BulkShape {
  mapping: Mapping
  kind: 'change' | 'remove'
  images: Images
  set: readonly Property[]
  /** Properties whose values can differ afterwards, or stand in an image for other reasons. */
  touched: readonly Property[]
  /** The SQL of each new value, over the row under `t` and the given one under `g`. */
  news: (joins: Joins, slots: SlotList) => string[]
  /** What the row under `t` is found by. */
  condition: (joins: Joins, slots: SlotList) => string
  newJoins: () => Joins
  /** The rows of a file that stand in a temporary table; null for a change by condition. */
  given: GivenShape | null
  /** Whether it has to be found out that the condition leaves rows out. */
  checksLeftOut: boolean
  /** The computed values that their columns can round. */
  roundings?: Roundings
  /** The number of its step in the entry, where it is not the first; what is added is the one behind it. */
  step?: number
}

/** Which columns a file of corrections has: in the temporary table they are called by their place. */
export interface GivenShape {
  /** The key's properties, then those that are set, then those that have to be as they are. */
  properties: readonly Property[]
  set: readonly Property[]
  /** Parts of the key that are set: found by one value, they are given another, which stands in a column of its own. */
  moved?: readonly Property[]
  /** Properties that cannot be set, such as the version: they stand in what was exported, and have to have the value the record has. */
  kept: readonly Property[]
  hasGuard: boolean
  /** Whether rows whose record is not there are added. */
  addsMissing: boolean
  /** Properties that have to have the values that an entry left them with, where it changed them. */
  left?: readonly LeftProperty[]
}

/** What an entry left a property with, as text, in a column of the temporary table. */
export interface LeftProperty {
  property: Property
  text: string
  /** The column that says whether the entry changed it in that row; null where it did in all of them. */
  isChanged: string | null
}

/** The temporary table of a file's rows, and that of the rows found. `pg_temp` is the session's own schema, whatever the search path. */
export const GIVEN = 'pg_temp.ledgerman_given'
export const HIT = 'pg_temp.ledgerman_hit'

/** The column of the temporary table that holds a property's values. */
export function givenColumn({ properties }: GivenShape, property: Property): string {
  return `c${properties.indexOf(property) + 1}`
}

/** The column of the temporary table that holds what a property is set to. */
export function restoredColumn(given: GivenShape, property: Property): string {
  const at = given.moved?.indexOf(property) ?? -1
  return at < 0 ? givenColumn(given, property) : `m${at + 1}`
}

/**
 * Whether what a row will be after a change can be computed before it: then no row has to be locked and kept first, in a snapshot of its
 * own (docs/decisions/0021). Triggers, rules, generated columns and views write more than was asked; tables that inherit have rows of
 * the same key.
 */
export function isPredictable({ mapping: { table } }: Pick<BulkShape, 'mapping'>): boolean {
  const isTable = table.kind === 'table' || table.kind === 'partitioned table'
  return isTable && table.isPlain && !table.hasChildren && !table.columns.some(({ generated }) => generated)
}

/** The properties whose values the book keeps of each row. */
export function keptProperties({ mapping, images, touched }: BulkShape): readonly Property[] {
  if (images === 'none') return []
  // A row without a key is known only by all its values.
  return images === 'full' || mapping.key.length === 0 ? mapping.properties : touched
}
