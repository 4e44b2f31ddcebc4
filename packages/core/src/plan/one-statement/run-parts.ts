import { plainType } from '../../values/value-type.js'
import type { Property } from '../../mapping/mapping.js'
import { isWrite, shownStatement, type Plan, type PlannedStep, type PlannedWrite } from '../plan.js'
import { typeOfParam } from '../resolve-params.js'
import { digestSql, NOW_SQL } from '../../statement/book-sql.js'
import { guardHoldsSql } from '../../statement/guard-sql.js'
import { valueSql, type NamedExpression, type Surroundings } from '../../statement/record-scope.js'
import type { Slot } from '../../statement/statement.js'
import { reversibilityOf } from '../../mapping/reversibility.js'
import { comparedSql } from '../../values/sql-form.js'
import { wireTextSql } from '../../values/wire-sql.js'
import { extraNames } from '../../statement/found-sql.js'
import { isLateBind } from './step-sql.js'
import type { RunSlots, StepSlots } from './step-slots.js'

/** What the parts of a statement that is a run have in common: what they may name, and what of them the book gets. */
export abstract class RunParts {
  /** What the steps so far are called, for expressions that name them. */
  protected readonly named = new Map<string, PlannedStep>()
  readonly #parameters: Surroundings['parameters']

  constructor(
    readonly plan: Plan,
    readonly slots: RunSlots,
  ) {
    this.#parameters = new Map(
      [...plan.params].map(([name, { type }]) => [name, type === null ? undefined : typeOfParam(type)]),
    )
  }

  /** The part of the statement, as an item of `from`, whose one row is the record of that name. */
  protected abstract recordOf(name: string): string
  protected abstract outcome(of: 'matched' | 'changed', name: string): string

  protected get surroundings(): Surroundings {
    return {
      parameters: this.#parameters,
      loadedNames: [...this.named.keys()],
      loaded: ([name = '', propertyName = '']) => {
        const property = this.propertyOf(name, propertyName)
        if (!property) return undefined
        const { column, sensitive } = property
        return {
          sql: comparedSql(`(select ${column.sql} from ${this.recordOf(name)})`, column.type),
          type: column.type,
          sensitive,
        }
      },
      outcome: ({ of, name }) => this.outcome(of, name),
    }
  }

  protected propertyOf(name: string, property: string): Property | undefined {
    const step = this.named.get(name)
    return step && 'mapping' in step ? step.mapping.byName.get(property) : undefined
  }

  protected verdict(expression: NamedExpression, slots: StepSlots): string {
    return `coalesce(${valueSql(expression, null, slots, this.surroundings, plainType('boolean'))}, false)`
  }

  protected guardHolds(step: PlannedWrite, guard: string, slots: StepSlots): string {
    const { shape, mapping, guards, loadedName } = step
    if (shape.kind === 'add' || !shape.guarded) return 'true'
    if (guards !== 'loaded') return guardHoldsSql(mapping.guard, 't', slots)
    const loaded = `(select ${extraNames(mapping).guard} from ${this.recordOf(loadedName ?? '')})`
    return `coalesce(${guard} = ${loaded}, false)`
  }

  /** The text of a bind that an earlier step gives. */
  #lateBind(step: PlannedStep, { source, sensitive }: Slot): string {
    if (source.from === 'outcome') return `${this.outcome(source.of, source.name)}::text`
    if (source.from === 'loaded') {
      const property = this.propertyOf(source.name, source.property)
      if (!property) return 'null::text'
      const text = `(select ${wireTextSql(property.column.sql, property.column.type)} from ${this.recordOf(source.name)})`
      return sensitive ? `case when ${text} is not null then ${digestSql(text, this.slots)} end` : text
    }
    const record = isWrite(step) ? step.loadedName : null
    const guard = isWrite(step) ? extraNames(step.mapping).guard : ''
    return `(select '{' || ${guard} || '}' from ${this.recordOf(record ?? '')})`
  }

  /** The binds that an earlier step gives, each as JSON in a text. */
  protected lateBinds(): string[] {
    const late = this.plan.steps.flatMap((step) =>
      shownStatement(step).slots.flatMap((slot) => (isLateBind(step, slot) ? [this.#lateBind(step, slot)] : [])),
    )
    return late.map((text) => `coalesce(pg_catalog.to_json(${text})::text, 'null')`)
  }

  /** The entry. What only the statement knows goes to its places in two texts: `told` is the counts of each step, then `lateBinds`. */
  protected entry(from: string): string {
    const values = [
      `${this.entrySlot('id')}::uuid`,
      NOW_SQL,
      this.#slot(':actor', 'text', { from: 'actor' }),
      `'committed'`,
      `${this.entrySlot('note')}::text`,
      'matched',
      'changed',
      `pg_catalog.format(${this.#slot(':run', 'text', { from: 'run', field: 'run' })}, pg_catalog.round(1e4::float8 * pg_catalog.date_part('epoch', pg_catalog.clock_timestamp() - pg_catalog.statement_timestamp())) / 10::float8, reversible)::jsonb`,
      `pg_catalog.format(${this.#slot(':steps', 'text', { from: 'run', field: 'steps' })}, variadic told)::json`,
    ]
    return `entered as (
  insert into ledgerman.entry (id, at, actor, outcome, note, matched, changed, run, steps)
  select ${values.join(', ')} from ${from}
)`
  }

  /** As `runReversibility` has it: by what those steps leave behind that changed anything. */
  protected reversible(changed: (no: number) => string): string {
    const gaps = this.plan.steps.flatMap((step) => {
      if (!isWrite(step)) return []
      return [{ no: step.no, leaves: reversibilityOf(step.mapping, step.kind, step.set) }]
    })
    const none = (leaves: 'yes' | 'no') =>
      gaps
        .filter((each) => each.leaves !== leaves)
        .map(({ no }) => `${changed(no)} = 0`)
        .join(' and ')
    if (none('yes') === '') return `'yes'`
    return `case when ${none('yes')} then 'yes' when ${none('no') || 'true'} then 'no' else 'partly' end`
  }

  protected entrySlot(field: 'id' | 'note'): string {
    const type = field === 'id' ? 'uuid' : 'text'
    return this.slots.add({ name: `:${field}`, type, sensitive: false, source: { from: 'entry', field } })
  }

  #slot(name: string, type: string, source: Slot['source']): string {
    return `${this.slots.add({ name, type, sensitive: false, source })}::${type}`
  }
}
