import { restoredColumn, type BulkShape, type GivenShape, type LeftProperty } from '../bulk-shape.js'
import { sameGivenSql } from '../found-rows.js'
import { Links } from '../../mapping/links.js'
import type { Property } from '../../mapping/mapping.js'
import { Aliases, Joins } from '../../statement/joins.js'
import { storedSql } from '../../values/sql-form.js'
import { restored, type UndoStep } from './undo-steps.js'

/** Which properties an entry changed in all its rows, and which in none of them. */
export interface ChangedIn {
  everywhere: ReadonlySet<Property>
  nowhere: ReadonlySet<Property>
}

/**
 * How a step is put back: what is found by the keys of its images, what has to be as it was left, and what it is set to.
 *
 * @param seen what its images say, where they have been looked at: then nothing is said of a property that the entry changed nowhere
 */
export function shapeOf(step: UndoStep, seen: ChangedIn = { everywhere: new Set(), nowhere: new Set() }): BulkShape {
  const { mapping, kind } = step
  const links = new Links()
  const isChange = kind === 'change' || kind === 'replace'
  const { set: settable, expected } = isChange
    ? restored(step)
    : restored({ ...step, touched: mapping.properties.flatMap(({ key, column }) => (key ? [] : [column.name])) })
  const whole = mapping.properties.filter(
    ({ column, sensitive }) => step.touched.includes(column.name) && !column.generated && !sensitive,
  )
  const properties =
    kind === 'remove'
      ? whole
      : kind === 'add'
        ? [...mapping.key]
        : [...mapping.key, ...settable.filter(({ key }) => !key)]
  // A statement has to set something, if only to find that nothing differs.
  const isSaid = (property: Property) => !seen.nowhere.has(property)
  const [set, left] = settable.some(isSaid) ? [settable.filter(isSaid), expected.filter(isSaid)] : [settable, expected]
  const given: GivenShape = {
    properties,
    set: isChange ? set : [],
    moved: isChange ? set.filter(({ key }) => key) : [],
    kept: [],
    hasGuard: false,
    addsMissing: false,
    ...(kind === 'remove' ? {} : { left: left.map((property) => leftOf(property, expected.indexOf(property), seen)) }),
  }
  return {
    mapping,
    kind: isChange ? 'change' : 'remove',
    images: 'changed',
    set: isChange ? set : [],
    touched: isChange
      ? mapping.properties.filter(({ column }) => step.touched.includes(column.name))
      : mapping.properties,
    newJoins: () => new Joins(mapping, 't', links, new Aliases()),
    news: () => (isChange ? set.map((property) => restoredSql(property, given)) : []),
    condition: () => mapping.key.map((property) => sameGivenSql(property, given)).join(' and '),
    given,
    checksLeftOut: false,
  }
}

function leftOf(property: Property, at: number, { everywhere }: ChangedIn): LeftProperty {
  return { property, text: `l${at + 1}`, isChanged: everywhere.has(property) ? null : `u${at + 1}` }
}

/** What a property is set to: what it was where the entry changed it, and what it is elsewhere. */
function restoredSql(property: Property, given: GivenShape): string {
  const { column } = property
  const before = storedSql(`g.${restoredColumn(given, property)}`, column.type)
  const isChanged = given.left?.find((each) => each.property === property)?.isChanged ?? null
  return isChanged === null ? before : `case when g.${isChanged} then ${before} else t.${column.sql} end`
}
