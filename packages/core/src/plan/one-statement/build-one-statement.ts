import { isWrite, mayWrite, type Plan, type PlannedStep, type PlannedWrite } from '../plan.js'
import { finderSql } from '../../statement/build-load-step.js'
import { expectedSql, newValueSql } from '../../statement/step-shape.js'
import { IMAGE_INSERT_SQL, imageColumnsSql, imageValuesSql } from '../../statement/book-sql.js'
import { sameKeySql } from '../../statement/key-sql.js'
import { guardValueSql } from '../../statement/guard-sql.js'
import { Aliases, Joins } from '../../statement/joins.js'
import { actorSql, brokenRuleSql, keyColumns, lockForWrite } from '../../statement/keyed-statement.js'
import { insertSql } from '../../statement/insert-sql.js'
import { toStatement, type Statement } from '../../statement/statement.js'
import { Gates } from './gates.js'
import { Preceding, type Source } from './preceding.js'
import { RunParts } from './run-parts.js'
import {
  fitsSql,
  isLeanlyGiven,
  isUnnamed,
  NO_RULE,
  refuseUnless,
  ROWS_GIVEN,
  wireBoolean,
  wireTexts,
} from './step-sql.js'
import { RunSlots, StepSlots } from './step-slots.js'
import { extraNames, foundSql, indented } from '../../statement/found-sql.js'
import { conjunction, keyNamesOf, WriteParts } from '../../statement/write-parts.js'

/**
 * Builds a whole run as one statement that locks, judges, writes and books, step by step, and raises where anything is refused:
 * so it is a transaction of its own, in one round trip. Each step is a few parts `with …`: `hN`, the rows found and locked; `dN`,
 * what was written; `gN`, its judgement, which every part of the next step waits for.
 *
 * Row shape: the number of a step, and a JSON array of texts; see `play-back.ts`. Those of number 0 are the counts. Where no rows are
 * given it is one row of one column, that array.
 *
 * @param inCode where it stands in written code.
 * @returns undefined where the run has to be sent step by step.
 */
export function buildOneStatement(plan: Plan, inCode: InCode | null = null): Statement | undefined {
  if (plan.steps.some((step) => 'mapping' in step && step.mapping.table.hasChildren)) return undefined
  const preceding = new Preceding(plan, inCode === null)
  const builder = new Builder(plan, inCode)
  for (const step of plan.steps) {
    const source = preceding.sourceOf(step)
    if (source === undefined) return undefined
    const readsOthers = builder.add(step, source)
    if (readsOthers && !preceding.showsOthers) return undefined
    preceding.add(step)
  }
  return builder.build()
}

/** What is left out of the statement where it stands in written code: it gives only counts, and leaves the session's name to the program. */
export interface InCode {
  /** Whether the program has judged the parameters. */
  hasJudgedParams: boolean
}

class Builder extends RunParts {
  readonly #parts: string[] = []
  readonly #gates
  readonly #images: string[] = []
  readonly #writes: PlannedWrite[] = []
  readonly #rows: string[] = []

  constructor(
    plan: Plan,
    readonly inCode: InCode | null,
  ) {
    super(plan, new RunSlots())
    this.#gates = new Gates(this.#parts, inCode === null)
    if (inCode?.hasJudgedParams) return
    const { rules } = plan.prologue
    const verdicts = rules.map(({ expression }) => this.verdict(expression, new StepSlots(this.slots, 0)))
    this.#gates.begin(
      `${inCode ? '' : `${this.#who()},\n    `}${refuseUnless([...verdicts, 'true'].join(' and '), 'params')} as ok`,
    )
  }

  /** Tells the session who acts, and which run it is: for triggers and policies, and for those who look at who waits. */
  #who(): string {
    const run = this.entrySlot('id')
    return `${actorSql(this.slots)}, pg_catalog.set_config('application_name', 'ledgerman run ' || ${run}::text, true)`
  }

  /** @returns whether the step reads other records beside its own. */
  add(step: PlannedStep, source: Source): boolean {
    const slots = new StepSlots(this.slots, step.no)
    const aliases = new Aliases()
    const joins = step.when === null && (step.kind === 'require' || source !== 'table')
    if (!joins) this.#gates.judgeJoined()
    if (step.when)
      this.#parts.push(
        `w${step.no} as materialized (\n  select ${conjunction([this.#gates.before, this.verdict(step.when.expression, slots)])} as yes\n)`,
      )
    const condition = conjunction([this.#gates.before, ...(step.when ? [`(select yes from w${step.no})`] : [])])
    if (step.kind === 'require') this.#require(step, slots)
    else if (step.kind === 'load') this.#load(step, source, condition, slots, aliases)
    else if (isWrite(step) && step.shape.kind === 'add') this.#add(step, condition, slots)
    else if (isWrite(step)) this.#write(step, source, condition, slots, aliases)
    if (step.as !== null) this.named.set(step.as, step)
    return aliases.areUsed
  }

  build(): Statement {
    this.#gates.judgeJoined()
    if (this.#images.length > 0)
      this.#parts.push(`imaged as (\n  ${IMAGE_INSERT_SQL}\n  ${this.#images.join('\n  union all\n  ')}\n)`)
    this.#parts.push(this.#counts(), this.entry('counts'))
    const parts = `with ${this.#parts.join(', ')}`
    if (this.inCode) return toStatement(`${parts}\nselect pg_catalog.array_to_json(told) from counts`, this.slots)
    const counts = `select 0 as step, pg_catalog.array_to_json(told) as texts from counts`
    return toStatement(`${parts}\n${[counts, ...this.#rows].join('\nunion all\n')}`, this.slots)
  }

  /**
   * What is told of all steps, `COUNTS_A_STEP` texts each, as they stand in JSON, in written code one less, with no time; behind them the
   * binds that the entry has in its places.
   */
  #counts(): string {
    const told = this.plan.steps.flatMap(({ no, when }) => {
      const [matched, changed] = [this.#gates.countText('matched', no), this.#gates.countText('changed', no)]
      const ms = this.#gates.duration(no)
      const counts = when
        ? [
            `case when (select yes from w${no}) then ${matched} else 'null' end`,
            `case when (select yes from w${no}) then ${changed} else 'null' end`,
          ]
        : [matched, changed]
      const skipped = when ? `(not (select yes from w${no}))::text` : `'false'`
      if (this.inCode) return [...counts, skipped]
      return [
        ...counts,
        skipped,
        ms === undefined
          ? `'0'`
          : `(pg_catalog.round(1e4::float8 * pg_catalog.date_part('epoch', ${ms})) / 10::float8)::text`,
      ]
    })
    const counted = this.plan.steps.filter(mayWrite)
    const sum = (of: 'matched' | 'changed') => counted.map(({ no }) => this.#gates.count(of, no)).join(' + ') || '0'
    return `counts as materialized (
  select array[${[...told, ...this.lateBinds()].join(', ')}] as told, (${sum('matched')})::integer as matched, (${sum('changed')})::integer as changed, ${this.reversible((no) => this.#gates.count('changed', no))} as reversible
  from ${this.#gates.names.join(', ')}
)`
  }

  #require(step: Extract<PlannedStep, { kind: 'require' }>, slots: StepSlots): void {
    const holds = this.verdict(step.judgement.expression, slots)
    if (!step.when) this.#gates.join({ no: step.no, verdict: holds, changed: '0', parts: [] })
    else this.#gates.judge(step, conjunction([this.#gates.before, holds]), { matched: '1', changed: '0', from: '' })
  }

  #load(
    step: Extract<PlannedStep, { kind: 'load' }>,
    source: Source,
    condition: string,
    slots: StepSlots,
    aliases: Aliases,
  ): void {
    const { no, mapping, finder, lock } = step
    const joins = new Joins(mapping, 't', this.plan.links, aliases)
    const found = finderSql(mapping, finder, joins, slots, this.surroundings)
    const { guard } = extraNames(mapping)
    const rows = {
      mapping,
      from: `${mapping.table.sql} as t${joins.sql}`,
      condition: conjunction([found, condition]),
      end: [
        `order by ${keyColumns(mapping, 't')}`,
        ...(lock === 'none' ? [] : [`for ${lock === 'share' ? 'share' : 'no key update'} of t`]),
      ],
      columns: mapping.properties,
      guard: guardValueSql(mapping.guard, 't'),
    }
    this.#parts.push(
      source === 'table'
        ? `h${no} as materialized (\n  ${indented(foundSql(rows), 2)}\n)`
        : `h${no} as materialized (\n  select t.* from h${source.step} as t where ${conjunction([found, condition])}\n)`,
    )
    const whole = `pg_catalog.array_to_json(array[${[...wireTexts('hit', mapping.properties), `hit.${guard}`].join(', ')}])`
    if (source === 'table' || step.when) {
      this.#gates.judge(step, fitsSql(step.expect, 'count(*)'), {
        matched: 'count(*)',
        changed: '0',
        from: `from h${no}`,
      })
      this.#give(step, whole, `from h${no} as hit`, null)
      return
    }
    const found1 = `r${no}.${mapping.key[0]?.column.sql} is not null`
    this.#gates.join({ no, verdict: found1, changed: '0', parts: [`h${no} as r${no}`] })
    // The row is given already where all of those locked are.
    const keys = `pg_catalog.json_build_array(array[${wireTexts('hit', mapping.key).join(', ')}], ${source.step})`
    this.#give(step, this.#givesAll(source.step) ? keys : whole, `from h${no} as hit`, null)
  }

  #write(step: PlannedWrite, source: Source, condition: string, slots: StepSlots, aliases: Aliases): void {
    const { no, mapping, kind, shape, touched } = step
    if (shape.kind === 'add') return
    const { finder, values, expected } = shape
    const joins = new Joins(mapping, 't', this.plan.links, aliases)
    const extra = extraNames(mapping)
    const isRemove = kind === 'remove'
    const found = finderSql(mapping, finder, joins, slots, this.surroundings)
    const isLean = this.inCode ? isUnnamed(step) : isLeanlyGiven(step)
    const guard = source === 'table' ? guardValueSql(mapping.guard, 't') : `t.${extra.guard}`
    const lock = lockForWrite(mapping, step.set, isRemove)
    const parts = new WriteParts({
      mapping,
      isRemove,
      set: step.set,
      news: values.map((value) => newValueSql(value, joins, slots, this.surroundings)),
      from: `${source === 'table' ? mapping.table.sql : `h${source.step}`} as t${joins.sql}`,
      condition: conjunction([found, condition]),
      end: source === 'table' ? [`order by ${keyColumns(mapping, 't')}`, `for ${lock} of t`] : [],
      columns: isLean ? mapping.properties.filter((each) => each.key || touched.includes(each)) : mapping.properties,
      touched,
      guard,
      guardHolds: this.guardHolds(step, guard, slots),
      asExpected: expectedSql(expected, slots),
    })
    const keyNames = keyNamesOf(mapping)
    this.#writes.push(step)
    const returned = [
      ...mapping.key.map(({ column }, at) => `hit.${column.sql} as ${keyNames[at]}`),
      ...this.#image(step, slots, { before: 'hit', after: isRemove ? null : 't' }),
    ]
    const both = `from h${no} as hit left join d${no} as done on ${sameKeySql(mapping.key, 'hit', 'done', keyNames)}`
    this.#parts.push(
      `h${no} as materialized (\n  ${parts.found()}\n)`,
      `d${no} as (\n  ${parts.written(`h${no} as hit`, { returned, isLean })}\n)`,
    )
    const isJoined = source !== 'table' && step.when === null
    const [hit, done] = isJoined ? [`r${no}`, `e${no}`] : ['hit', 'done']
    const brokenRule = parts.brokenRule(slots, hit, done)
    const verdict = conjunction([
      parts.may(hit),
      isRemove
        ? `${done}.${extra.written} is not null`
        : `(${done}.${extra.written} is not null or not ${parts.flag('differs', hit)})`,
      ...this.#unwritten(step, source, hit),
      ...(brokenRule === NO_RULE ? [] : [`(${brokenRule}) is null`]),
    ])
    if (isJoined) {
      const changed = `(${done}.${extra.written} is not null)::integer`
      this.#gates.join({
        no,
        verdict: `coalesce(${verdict}, false)`,
        changed,
        parts: [`h${no} as ${hit}`, `d${no} as ${done}`],
      })
    } else {
      const leavesOut = `exists (select 1 from ${mapping.table.sql} as t${joins.sql} where (${found}) is not true)`
      const verdicts = [
        fitsSql(step.expect, 'count(*)'),
        `coalesce(pg_catalog.bool_and(${verdict}), true)`,
        ...(shape.checksLeftOut ? [`(count(*) = 0 or ${leavesOut})`] : []),
      ]
      this.#gates.judge(step, verdicts.join(' and '), {
        matched: 'count(*)',
        changed: `pg_catalog.count(done.${extra.written})`,
        from: both,
      })
    }
    if (isLean) {
      const image = `pg_catalog.json_build_array(${extra.image_key}, ${extra.image_before}, ${extra.image_after}, ${extra.guard})`
      this.#give(step, image, `from d${no}`, keyNames.join(', '))
      return
    }
    const texts = [
      ...wireTexts('hit', mapping.properties),
      wireBoolean(parts.flag('differs')),
      wireBoolean(`done.${extra.written}`),
      `hit.${extra.guard}`,
      `done.${extra.guard}`,
      ...(isRemove ? [] : wireTexts('done', touched)),
    ]
    this.#give(step, `pg_catalog.array_to_json(array[${texts.join(', ')}])`, both, keyColumns(mapping, 'hit'))
  }

  #add(step: PlannedWrite, condition: string, slots: StepSlots): void {
    const { no, mapping, shape } = step
    const surroundings = this.surroundings
    const extra = extraNames(mapping)
    const news = shape.values.map((value) => newValueSql(value, null, slots, surroundings))
    const set = shape.values.map(({ property }) => property)
    const values = `select ${news.join(', ')} where ${condition}`
    const returned = this.#image(step, slots, { before: null, after: 't' })
    this.#parts.push(`d${no} as (\n  ${insertSql(mapping, { set, values, returned })}\n)`)
    const from = `from d${no} as done`
    const brokenRule = brokenRuleSql(mapping, `done.${extra.written}`, ({ column }) => `done.${column.sql}`, slots)
    this.#gates.judge(
      step,
      `count(*) = 1${brokenRule === NO_RULE ? '' : ` and pg_catalog.bool_and((${brokenRule}) is null)`}`,
      {
        matched: 'count(*)',
        changed: 'count(*)',
        from,
      },
    )
    const texts = [...wireTexts('done', mapping.properties), `done.${extra.guard}`]
    this.#give(step, `pg_catalog.array_to_json(array[${texts.join(', ')}])`, from, null)
  }

  /** Whether every row of a step is given back. */
  #givesAll(no: number): boolean {
    const expect = this.plan.steps[no - 1]?.expect
    return expect === 'one' || (typeof expect === 'number' && expect <= ROWS_GIVEN)
  }

  /** @param order null where the rows come in the order of their keys already. */
  #give({ no }: PlannedStep, row: string, from: string, order: string | null): void {
    if (this.inCode) return
    const limit = this.#givesAll(no) ? '' : `${order === null ? '' : ` order by ${order}`} limit ${ROWS_GIVEN}`
    this.#rows.push(`(select ${no}, ${row} ${from}${limit})`)
  }

  /**
   * That no earlier step wrote the row that this one finds among those locked before, where it stands as it was then. Whoever finds
   * it in its table finds nothing.
   */
  #unwritten({ no, mapping }: PlannedWrite, source: Source, hit: string): string[] {
    if (source === 'table') return []
    const earlier = this.#writes.filter((each) => each.no < no && each.mapping === mapping)
    return earlier.map((each) => {
      const same = (alias: string) => sameKeySql(mapping.key, hit, alias, keyNamesOf(mapping))
      return this.#gates.waitsForJudgement(each.no)
        ? `(${same(`e${each.no}`)}) is not true`
        : `not exists (select 1 from d${each.no} as other where ${same('other')})`
    })
  }

  /** The columns of an image that the step's `returning` gives beside the row, for the book. */
  #image(step: PlannedWrite, slots: StepSlots, alias: { before: string | null; after: string | null }): string[] {
    const entry = `${this.entrySlot('id')}::uuid`
    this.#images.push(`select ${entry}, ${step.no}, ${imageValuesSql(step.mapping)} from d${step.no} as done`)
    return imageColumnsSql(step.mapping, slots, step.touched, alias)
  }

  /** The part of the statement whose one row is the record of that name. */
  protected recordOf(name: string): string {
    const step = this.named.get(name)
    if (!step || !isWrite(step)) return `h${step?.no ?? 0}`
    const { no, mapping, shape, touched } = step
    if (shape.kind === 'add') return `d${no}`
    const { written } = extraNames(mapping)
    const columns = mapping.properties.map(({ column }) => {
      const isTouched = touched.some((property) => property.column === column)
      return isTouched
        ? `case when done.${written} then done.${column.sql} else hit.${column.sql} end as ${column.sql}`
        : `hit.${column.sql}`
    })
    return `(select ${columns.join(', ')} from h${no} as hit left join d${no} as done on true) as record`
  }

  protected outcome(of: 'matched' | 'changed', name: string): string {
    return this.#gates.outcome(of, this.named.get(name)?.no ?? 0)
  }
}
