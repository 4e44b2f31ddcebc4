import { givenType } from '../file-job.js'
import type { Property } from '../../mapping/mapping.js'
import { imageTextSql } from '../../statement/image-block-sql.js'
import { SlotList } from '../../statement/statement.js'
import { storedSql } from '../../values/sql-form.js'
import type { UndoStep } from './undo-steps.js'

type Side = 'key' | 'before' | 'after'

/**
 * The lines of a step's images that a statement speaks of: each is a column of the images under `i`, `key_1` …, `before_1` …, `after_1` …,
 * by its place.
 */
export class ImageLines {
  readonly #places = new Map<string, { side: Side; place: number }>()

  constructor(readonly step: UndoStep) {}

  /** A property's text before or after the step. */
  text(side: 'before' | 'after', property: Property): string {
    return this.#line(side, this.step.touched.indexOf(property.column.name) + 1)
  }

  /** What a property was before the step, as a value of its column. */
  value(property: Property): string {
    return `${this.text('before', property)}::${givenType(property)}`
  }

  /** What a record is found by, as a value of its column: a part of its key as the step left it. */
  key(property: Property): string {
    const { kind, mapping, touched } = this.step
    const { type, name } = property.column
    if (kind === 'remove') return this.value(property)
    const isTouched = kind !== 'add' && touched.includes(name)
    const line = isTouched ? this.text('after', property) : this.#line('key', mapping.key.indexOf(property) + 1)
    // A digest, of which `fillGiven` finds the value.
    if (property.sensitive) return line
    // As a key it stands there as the server casts it to text, which of money is not the number that other values are.
    return isTouched ? `${line}::${givenType(property)}` : `${line}::${type.comparable}::${givenType(property)}`
  }

  /** What a column of the given rows holds: a part of the key to find the record by, or what a property was. */
  given(property: Property): string {
    return property.key ? this.key(property) : this.value(property)
  }

  /** Whether a property's column holds what it was before just as the image has it, which it does not where it was made shorter since. */
  isExact(property: Property): string {
    const stored = `(${storedSql(this.value(property), property.column.type)})`
    return `${imageTextSql(stored, property, new SlotList())} is not distinct from ${this.text('before', property)}`
  }

  /** Whether the step changed a property; what was added, it changed in all of it. */
  isChanged(property: Property): string {
    if (this.step.kind === 'add') return 'true'
    return `${this.text('before', property)} is distinct from ${this.text('after', property)}`
  }

  /** The images, wherever the book keeps them. */
  allSql(entry: string, step: string): string {
    const of = `entry = ${entry}::uuid`
    const columns = (alias: string) => this.#columns(({ side, place }, name) => `${alias}.${side}[${place}] as ${name}`)
    return `
select ${columns('e')} from ledgerman.entry e where e.id = ${entry}::uuid and ${step}::integer = 0
union all
select ${columns('m')} from ledgerman.image m where m.${of} and m.step = ${step}::integer
union all
${this.blocksSql(`ledgerman.image_block b where b.${of} and b.step = ${step}::integer`)}`
  }

  /**
   * Those in blocks. Their lines are unnested side by side in the select list, which keeps no copy of them: to look a place up in an array of
   * texts takes as long as the place is far in it.
   */
  blocksSql(from: string): string {
    return `select ${this.#columns(({ side, place }, name) => `pg_catalog.unnest(b.${side}[${place}:${place}]) as ${name}`)} from ${from}`
  }

  #line(side: Side, place: number): string {
    const name = `${side}_${place}`
    this.#places.set(name, { side, place })
    return `i.${name}`
  }

  #columns(sqlOf: (line: { side: Side; place: number }, name: string) => string): string {
    return [...this.#places].map(([name, line]) => sqlOf(line, name)).join(', ')
  }
}
