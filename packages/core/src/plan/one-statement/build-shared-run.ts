import { isWrite, mayWrite, type Plan, type PlannedStep, type PlannedWrite } from '../plan.js'
import { askedSql } from '../../statement/asked-slots.js'
import { IMAGE_INSERT_SQL, imageColumnsSql, imageValuesSql } from '../../statement/book-sql.js'
import { finderSql } from '../../statement/build-load-step.js'
import { expectedSql, newValueSql } from '../../statement/step-shape.js'
import { sameKeySql } from '../../statement/key-sql.js'
import { guardValueSql } from '../../statement/guard-sql.js'
import { Aliases, Joins } from '../../statement/joins.js'
import { keyColumns, mayWait } from '../../statement/keyed-statement.js'
import { toStatement, type Statement } from '../../statement/statement.js'
import { Preceding, type Source } from './preceding.js'
import { RunParts } from './run-parts.js'
import { SharedRunSlots, StepSlots } from './step-slots.js'
import { isLateBind, isLeanlyGiven, NO_RULE, refuseUnless, ROWS_GIVEN, wireBoolean, wireTexts } from './step-sql.js'
import { extraNames, foundSql, indented } from '../../statement/found-sql.js'
import { conjunction, WriteParts } from '../../statement/write-parts.js'

type Load = Extract<PlannedStep, { kind: 'load' }>

/**
 * Builds the runs of several callers, all of one plan, as one statement: `buildOneStatement` for each of them, with as many parts as
 * for one. Row shape: the caller's place, from 1, then as there.
 *
 * A row that somebody has locked is left out, and so are callers who would meet one another at a row, all but the first: whoever
 * gets no rows asks alone. So does whoever would be refused; nothing was written for them. Where it turns out only afterwards that
 * a write was not right the whole statement refuses.
 *
 * @returns undefined where a plan does more than lock rows, look at them and write them: then nobody shares.
 */
export function buildSharedRun(plan: Plan): Statement | undefined {
  const { steps } = plan
  const preceding = new Preceding(plan, true)
  const builder = new SharedRuns(plan)
  for (const step of steps) {
    const source = preceding.sourceOf(step)
    if (source === undefined || step.when || plan.isolation !== 'read committed') return undefined
    if ('mapping' in step && (step.mapping.table.rowSecurity || !step.mapping.table.isPlain)) return undefined
    if (step.kind === 'load' && source === 'table' && !isSharable(step)) return undefined
    if (isWrite(step) && (source === 'table' || mayWait(step.mapping, step.set))) return undefined
    if (!builder.add(step, source)) return undefined
    preceding.add(step)
  }
  return builder.build()
}

/** Whether a load that locks finds as many rows for each caller as are told of. */
function isSharable({ lock, expect }: Load): boolean {
  return lock === 'change' && (expect === 'one' || (typeof expect === 'number' && expect <= ROWS_GIVEN))
}

class SharedRuns extends RunParts {
  readonly #locked: string[] = []
  readonly #looked: string[] = []
  readonly #written: string[] = []
  readonly #images: string[] = []
  readonly #writes: PlannedWrite[] = []
  readonly #rows: string[] = []
  /** Conditions that have to hold for a caller before anything is written for them, and the parts they look at. */
  readonly #verdicts: string[]
  readonly #judged: string[] = []
  /** Conditions that have to hold afterwards, and the parts they look at. */
  readonly #proofs: string[] = []
  readonly #proved: string[] = []
  readonly #locks: Load[] = []
  readonly #matched = new Map<number, string>()
  readonly #changed = new Map<number, string>()

  constructor(plan: Plan) {
    super(plan, new SharedRunSlots())
    this.#verdicts = plan.prologue.rules.map(({ expression }) =>
      this.verdict(expression, new StepSlots(this.slots as SharedRunSlots, 0)),
    )
  }

  /** @returns false where the step cannot be shared. */
  add(step: PlannedStep, source: Source): boolean {
    const { no } = step
    // What was written for the callers is known too late to judge anything by.
    const namesWritten = [...this.named].some(([name, named]) => isWrite(named) && this.#names(step, name))
    if (namesWritten || this.#usesOutcomes(step)) return false
    const slots = new StepSlots(this.slots as SharedRunSlots, no)
    const aliases = new Aliases()
    this.#matched.set(no, '1')
    this.#changed.set(no, '0')
    if (step.kind === 'require') this.#verdicts.push(this.verdict(step.judgement.expression, slots))
    else if (step.kind === 'load' && source === 'table') {
      if (this.#looked.length > 0) return false
      this.#lock(step, slots, aliases)
    } else if (step.kind === 'load' && source !== 'table') this.#look(step, source.step, slots)
    else if (isWrite(step) && source !== 'table') this.#write(step, source.step, slots)
    if (step.as !== null) this.named.set(step.as, step)
    return !aliases.areUsed
  }

  build(): Statement | undefined {
    if (this.#locks.length === 0 || this.#written.length === 0) return undefined
    const told = this.plan.steps.flatMap(({ no }, at) => [
      `${this.#matched.get(no)}::text`,
      `${this.#changed.get(no)}::text`,
      `'false'`,
      at < this.plan.steps.length - 1
        ? `'0'`
        : `(pg_catalog.round(1e4::float8 * pg_catalog.date_part('epoch', pg_catalog.clock_timestamp() - pg_catalog.statement_timestamp())) / 10::float8)::text`,
    ])
    const sum = (of: ReadonlyMap<number, string>) =>
      this.plan.steps
        .filter(mayWrite)
        .map(({ no }) => of.get(no))
        .join(' + ') || '0'
    const parts = [
      ...this.#locked,
      `fit as materialized (
  select asked.place from asked${this.#locks.map(({ no }) => ` join (select place, count(*) as n from h${no} group by place) as n${no} on n${no}.place = asked.place and n${no}.n = ${this.#matched.get(no)}`).join('')}
  where ${this.#distinct().join(' and ')}
)`,
      ...this.#looked,
      `may as materialized (
  select fit.place from fit join asked on asked.place = fit.place${this.#judged.join('')}
  where ${conjunction(this.#verdicts)}
)`,
      ...this.#written,
      `counts as materialized (
  select may.place, ${refuseUnless(conjunction(this.#proofs), 'shared')} as ok, array[${[...told, ...this.lateBinds()].join(', ')}] as told,
    (${sum(this.#matched)})::integer as matched, (${sum(this.#changed)})::integer as changed, ${this.reversible((no) => this.#changed.get(no) ?? '0')} as reversible
  from may join asked on asked.place = may.place${this.#proved.join('')}
)`,
      `imaged as (\n  ${IMAGE_INSERT_SQL}\n  ${this.#images.join('\n  union all\n  ')}\n)`,
      this.entry('counts join asked on asked.place = counts.place'),
    ]
    const rows = [
      'select place, 0 as step, pg_catalog.array_to_json(told) as texts from counts where ok',
      ...this.#rows,
    ]
    const actor = `pg_catalog.set_config('application_name', 'ledgerman runs', true)`
    return toStatement(
      `with asked as materialized (\n  select asked.* from ${askedSql(this.slots)}, ${actor} as named\n), ${parts.join(', ')}\n${rows.join('\nunion all\n')}`,
      this.slots,
    )
  }

  protected recordOf(name: string): string {
    const step = this.named.get(name)
    const place = step && 'mapping' in step ? extraNames(step.mapping).place : 'place'
    return `h${step?.no ?? 0} as named where named.${place} = asked.place`
  }

  protected outcome(): string {
    return '0'
  }

  /** Locks what nobody else has locked. Names of places differ from the table's columns, as all extra ones do. */
  #lock(step: Load, slots: StepSlots, aliases: Aliases): void {
    const { no, mapping, finder, expect } = step
    const joins = new Joins(mapping, 't', this.plan.links, aliases)
    const found = finderSql(mapping, finder, joins, slots, this.surroundings)
    const { guard, place } = extraNames(mapping)
    const rows = foundSql({
      mapping,
      from: `asked join ${mapping.table.sql} as t on ${found}`,
      condition: 'true',
      end: [`order by ${keyColumns(mapping, 't')}`, 'for no key update of t skip locked'],
      columns: mapping.properties,
      guard: guardValueSql(mapping.guard, 't'),
      beside: [`asked.place as ${place}`],
    })
    this.#locked.push(`h${no} as materialized (\n  ${indented(rows, 2)}\n)`)
    this.#locks.push(step)
    this.#matched.set(no, String(expect === 'one' ? 1 : expect))
    const row = [...wireTexts('hit', mapping.properties), `hit.${guard}`].join(', ')
    this.#give(step, `pg_catalog.array_to_json(array[${row}])`, `h${no} as hit join may on may.place = hit.${place}`)
  }

  /** Of callers who locked the same row only the first may go on. */
  #distinct(): string[] {
    const tables = new Map(this.#locks.map(({ mapping }) => [mapping.table.path, mapping]))
    return [...tables].map(([path, mapping]) => {
      const keys = mapping.key.map((_, at) => `k${at + 1}`)
      const all = this.#locks
        .filter((each) => each.mapping.table.path === path)
        .map(
          ({ no, mapping: own }) =>
            `select ${extraNames(own).place} as place, ${mapping.key.map(({ column }, at) => `${column.sql} as ${keys[at]}`).join(', ')} from h${no}`,
        )
      return `asked.place not in (select place from (select place, min(place) over (partition by ${keys.join(', ')}) as first from (${all.join(' union all ')}) as taken) as taken where place <> first)`
    })
  }

  /** Looks at a row among those that were locked. */
  #look(step: Load, from: number, slots: StepSlots): void {
    const { no, mapping } = step
    const { place } = extraNames(mapping)
    const found = finderSql(
      mapping,
      step.finder,
      new Joins(mapping, 't', this.plan.links, new Aliases()),
      slots,
      this.surroundings,
    )
    this.#looked.push(
      `h${no} as materialized (\n  select t.* from h${from} as t join fit on fit.place = t.${place} join asked on asked.place = t.${place} where ${found}\n)`,
    )
    this.#judged.push(` join h${no} as r${no} on r${no}.${place} = asked.place`)
    const keys = `pg_catalog.json_build_array(array[${wireTexts('hit', mapping.key).join(', ')}], ${from})`
    this.#give(step, keys, `h${no} as hit join may on may.place = hit.${place}`)
  }

  #write(step: PlannedWrite, from: number, slots: StepSlots): void {
    const { no, mapping, shape, touched } = step
    if (shape.kind === 'add') return
    const extra = extraNames(mapping)
    const joins = new Joins(mapping, 't', this.plan.links, new Aliases())
    const found = finderSql(mapping, shape.finder, joins, slots, this.surroundings)
    const isLean = isLeanlyGiven(step)
    const parts = new WriteParts({
      mapping,
      isRemove: false,
      set: step.set,
      news: shape.values.map((value) => newValueSql(value, joins, slots, this.surroundings)),
      from: `h${from} as t join fit on fit.place = t.${extra.place} join asked on asked.place = t.${extra.place}`,
      condition: found,
      end: [],
      columns: isLean ? mapping.properties.filter((each) => each.key || touched.includes(each)) : mapping.properties,
      touched,
      guard: `t.${extra.guard}`,
      guardHolds: this.guardHolds(step, `t.${extra.guard}`, slots),
      asExpected: expectedSql(shape.expected, slots),
      beside: [`t.${extra.place}`],
    })
    const images = imageColumnsSql(mapping, this.slots, touched, { before: 'hit', after: 't' })
    const returned = [`hit.${extra.place}`, ...images]
    this.#looked.push(`h${no} as materialized (\n  ${parts.found()}\n)`)
    this.#judged.push(` join h${no} as r${no} on r${no}.${extra.place} = asked.place`)
    this.#verdicts.push(parts.may(`r${no}`))
    // What an earlier step writes stands no longer as it was locked.
    for (const earlier of this.#writes.filter((each) => each.mapping === mapping)) {
      const same = sameKeySql(mapping.key, `r${no}`, `r${earlier.no}`)
      this.#verdicts.push(`not (r${earlier.no}.${extra.differs} and ${same})`)
    }
    this.#writes.push(step)
    const callers = `h${no} as hit join may on may.place = hit.${extra.place} join asked on asked.place = hit.${extra.place}`
    this.#written.push(`d${no} as (\n  ${parts.written(callers, { returned, isLean })}\n)`)
    this.#proved.push(
      ` join h${no} as r${no} on r${no}.${extra.place} = may.place left join d${no} as e${no} on e${no}.${extra.place} = may.place`,
    )
    const brokenRule = parts.brokenRule(slots, `r${no}`, `e${no}`)
    this.#proofs.push(`(e${no}.${extra.written} is not null or not r${no}.${extra.differs})`)
    if (brokenRule !== NO_RULE) this.#proofs.push(`(${brokenRule}) is null`)
    this.#changed.set(no, `(e${no}.${extra.written} is not null)::integer`)
    this.#images.push(
      `select ${this.entrySlot('id')}::uuid, ${no}, ${imageValuesSql(mapping)} from d${no} as done join asked on asked.place = done.${extra.place}`,
    )
    if (isLean) {
      const image = `pg_catalog.json_build_array(hit.${extra.image_key}, hit.${extra.image_before}, hit.${extra.image_after}, hit.${extra.guard})`
      this.#give(step, image, `d${no} as hit`)
      return
    }
    const texts = [
      ...wireTexts('hit', mapping.properties),
      wireBoolean(`hit.${extra.differs}`),
      wireBoolean(`done.${extra.written}`),
      `hit.${extra.guard}`,
      `done.${extra.guard}`,
      ...wireTexts('done', touched),
    ]
    this.#give(
      step,
      `pg_catalog.array_to_json(array[${texts.join(', ')}])`,
      `h${no} as hit join may on may.place = hit.${extra.place} left join d${no} as done on done.${extra.place} = hit.${extra.place}`,
    )
  }

  #give({ no, ...step }: PlannedStep, row: string, from: string): void {
    const place = 'mapping' in step ? extraNames(step.mapping).place : 'place'
    this.#rows.push(`(select hit.${place}, ${no}, ${row} from ${from})`)
  }

  #names(step: PlannedStep, name: string): boolean {
    const all = [...statementsOf(step)].flatMap(({ slots }) => slots)
    return (
      all.some(({ source }) => source.from === 'loaded' && source.name === name) ||
      (isWrite(step) && step.loadedName === name)
    )
  }

  #usesOutcomes(step: PlannedStep): boolean {
    return statementsOf(step).some(({ slots }) =>
      slots.some((slot) => slot.source.from === 'outcome' && isLateBind(step, slot)),
    )
  }
}

function statementsOf(step: PlannedStep): Statement[] {
  if (step.kind === 'require') return [step.judgement.statement]
  return isWrite(step) ? [step.step] : [step.statement]
}
