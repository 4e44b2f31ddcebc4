import type { Expectation } from '@ledgerman/contract'
import { isWrite, shownStatement, type Plan, type PlannedStep, type PlannedWrite } from '../plan/plan.js'
import { typeOfParam } from '../plan/resolve-params.js'
import { finderSql } from '../statement/build-load-step.js'
import { expectedSql, newValueSql } from '../statement/build-write-step.js'
import { digestSql, IMAGE_INSERT_SQL, imageSidesSql, recordHashSql } from '../statement/book-sql.js'
import { guardHoldsSql, guardValueSql } from '../statement/guard-sql.js'
import { Aliases, Joins } from '../statement/joins.js'
import { actorSql, brokenRuleSql, changesKey, freshNames, guardAfterSql } from '../statement/keyed-statement.js'
import { valueSql, type NamedExpression, type Surroundings } from '../statement/record-scope.js'
import { toStatement, type Slot, type Statement } from '../statement/statement.js'
import { plainType } from '../expression/value-type.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { reversibilityOf } from '../transaction/reversibility.js'
import { comparedSql } from '../values/sql-form.js'
import { isSentAsCast, wireTextSql } from '../values/wire-sql.js'
import { Preceding, type Source } from './preceding.js'
import { RunSlots, StepSlots } from './step-slots.js'

/** How many rows of a step the statement gives back; the book has them all. */
export const ROWS_GIVEN = 100

/** How many texts the counts have for each step: rows matched and changed, whether it was skipped, milliseconds. */
export const COUNTS_A_STEP = 4

/**
 * Builds a whole run as one statement that locks, judges, writes and books, step by step, and raises where anything is refused:
 * so it is a transaction of its own, in one round trip. Each step is a few parts `with …`: `hN`, the rows found and locked; `dN`,
 * what was written; `gN`, its judgement, which every part of the next step waits for.
 *
 * Row shape: the number of a step, and a JSON array of texts; see `play-back.ts`. Those of number 0 are the counts.
 *
 * @returns undefined where the run has to be sent step by step.
 */
export function buildOneStatement(plan: Plan): Statement | undefined {
  const preceding = new Preceding(plan)
  const builder = new Builder(plan)
  for (const step of plan.steps) {
    const source = preceding.sourceOf(step)
    if (source === undefined) return undefined
    const readsOthers = builder.add(step, source)
    if (readsOthers && !preceding.showsOthers) return undefined
    preceding.add(step)
  }
  return builder.build()
}

/** A step that finds its one row among those locked before, or none at all: it is judged together with the ones beside it. */
interface Joined {
  no: number
  verdict: string
  changed: string
  /** Parts of the statement that its verdict looks at, with the aliases it knows them by. */
  parts: string[]
}

/** Where the counts of a step stand: in a part of the statement, under these names. */
interface Gate {
  part: string
  matched: string
  changed: string
}

class Builder {
  readonly #slots = new RunSlots()
  readonly #gates = new Map<number, Gate>()
  #joined: Joined[] = []
  /** The last part that judges, and the steps' durations, each since the judgement before. */
  #last = 'g0'
  readonly #durations = new Map<number, string>()
  readonly #parts: string[] = []
  readonly #images: string[] = []
  readonly #rows: string[] = []
  /** What the steps so far are called, for expressions that name them. */
  readonly #named = new Map<string, PlannedStep>()
  readonly #parameters: Surroundings['parameters']

  constructor(readonly plan: Plan) {
    this.#parameters = new Map(
      [...plan.params].map(([name, { type }]) => [name, type === null ? undefined : typeOfParam(type)]),
    )
    const rules = plan.prologue.rules.map(({ expression }) => this.#verdict(expression, new StepSlots(this.#slots, 0)))
    const run = this.#entrySlot('id')
    this.#parts.push(`g0 as materialized (
  select ${actorSql(this.#slots)}, set_config('application_name', 'ledgerman run ' || ${run}::text, true),
    ${refuseUnless([...rules, 'true'].join(' and '), 'params')} as ok, clock_timestamp() as at
)`)
  }

  /** @returns whether the step reads other records beside its own. */
  add(step: PlannedStep, source: Source): boolean {
    const slots = new StepSlots(this.#slots, step.no)
    const aliases = new Aliases()
    const joins = step.when === null && (step.kind === 'require' || source !== 'table')
    if (!joins) this.#judgeJoined()
    const isAsked = step.when ? ` and (select yes from w${step.no})` : ''
    if (step.when)
      this.#parts.push(
        `w${step.no} as materialized (\n  select ${this.#before} and ${this.#verdict(step.when.expression, slots)} as yes\n)`,
      )
    const condition = `${this.#before}${isAsked}`
    if (step.kind === 'require') this.#require(step, slots)
    else if (step.kind === 'load') this.#load(step, source, condition, slots, aliases)
    else if (isWrite(step) && step.shape.kind === 'add') this.#add(step, condition, slots)
    else if (isWrite(step)) this.#write(step, source, condition, slots, aliases)
    if (step.as !== null) this.#named.set(step.as, step)
    return aliases.areUsed
  }

  build(): Statement {
    this.#judgeJoined()
    if (this.#images.length > 0)
      this.#parts.push(`imaged as (\n  ${IMAGE_INSERT_SQL}\n  ${this.#images.join('\n  union all\n  ')}\n)`)
    this.#parts.push(this.#counts(), this.#entry())
    const counts = `select 0 as step, array_to_json(told) as texts from counts`
    return toStatement(`with ${this.#parts.join(', ')}\n${[counts, ...this.#rows].join('\nunion all\n')}`, this.#slots)
  }

  /** What is told of all steps, `COUNTS_A_STEP` texts each, as they stand in JSON. */
  #counts(): string {
    const told = this.plan.steps.flatMap(({ no, when }) => {
      const [matched, changed] = [`${this.#count('matched', no)}::text`, `${this.#count('changed', no)}::text`]
      const ms = this.#durations.get(no)
      const counts = when
        ? [
            `case when (select yes from w${no}) then ${matched} else 'null' end`,
            `case when (select yes from w${no}) then ${changed} else 'null' end`,
          ]
        : [matched, changed]
      const skipped = when ? `(not (select yes from w${no}))::text` : `'false'`
      return [...counts, skipped, ms === undefined ? `'0'` : `(round(1e4 * date_part('epoch', ${ms})) / 10)::text`]
    })
    const counted = this.plan.steps.filter(({ kind }) => kind !== 'require')
    const sum = (of: 'matched' | 'changed') => counted.map(({ no }) => this.#count(of, no)).join(' + ') || '0'
    const gates = new Set(['g0', ...[...this.#gates.values()].map(({ part }) => part)])
    return `counts as materialized (
  select array[${told.join(', ')}] as told, (${sum('matched')})::integer as matched, (${sum('changed')})::integer as changed, ${this.#reversible()} as reversible
  from ${[...gates].join(', ')}
)`
  }

  #count(of: 'matched' | 'changed', no: number): string {
    const gate = this.#gates.get(no)
    return gate ? `${gate.part}.${gate[of]}` : '0'
  }

  #require(step: Extract<PlannedStep, { kind: 'require' }>, slots: StepSlots): void {
    const holds = this.#verdict(step.judgement.expression, slots)
    if (!step.when) this.#joined.push({ no: step.no, verdict: holds, changed: '0', parts: [] })
    else this.#gate(step, `${this.#before} and ${holds}`, { matched: '1', changed: '0', from: '' })
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
    const found = finderSql(mapping, finder, joins, slots, this.#surroundings)
    const { guard } = extraNames(mapping)
    const columns = mapping.properties.map(({ column }) => `t.${column.sql}`).join(', ')
    this.#parts.push(
      source === 'table'
        ? `h${no} as materialized (
  select ${columns}, ${guardValueSql(mapping.guard, 't')} as ${guard}
  from ${mapping.table.sql} as t${joins.sql}
  where ${found} and ${condition}
  order by ${keyColumns(mapping, 't')}${lock === 'none' ? '' : `\n  for ${lock === 'share' ? 'share' : 'no key update'} of t`}
)`
        : `h${no} as materialized (\n  select t.* from h${source.step} as t where ${found} and ${condition}\n)`,
    )
    const whole = `array_to_json(array[${[...wireTexts('hit', mapping.properties), `hit.${guard}`].join(', ')}])`
    const order = keyColumns(mapping, 'hit')
    if (source === 'table' || step.when) {
      this.#gate(step, fitsSql(step.expect, 'count(*)'), { matched: 'count(*)', changed: '0', from: `from h${no}` })
      this.#give(step, whole, `from h${no} as hit`, order)
      return
    }
    const found1 = `r${no}.${mapping.key[0]?.column.sql} is not null`
    this.#joined.push({ no, verdict: found1, changed: '0', parts: [`h${no} as r${no}`] })
    // The row is given already where all of those locked are.
    const keys = `json_build_array(array[${wireTexts('hit', mapping.key).join(', ')}], ${source.step})`
    this.#give(step, this.#givesAll(source.step) ? keys : whole, `from h${no} as hit`, order)
  }

  #write(step: PlannedWrite, source: Source, condition: string, slots: StepSlots, aliases: Aliases): void {
    const { no, mapping, kind, shape, touched } = step
    if (shape.kind === 'add') return
    const { finder, values, expected } = shape
    const surroundings = this.#surroundings
    const joins = new Joins(mapping, 't', this.plan.links, aliases)
    const extra = extraNames(mapping)
    const isRemove = kind === 'remove'
    const newNames = values.map((_, at) => freshNames(mapping, [`new_${at + 1}`])[`new_${at + 1}`])
    const news = values.map((value, at) => `${newValueSql(value, joins, slots, surroundings)} as ${newNames[at]}`)
    const found = finderSql(mapping, finder, joins, slots, surroundings)
    const isLean = isLeanlyGiven(step)
    const needed = isLean ? mapping.properties.filter((each) => each.key || touched.includes(each)) : mapping.properties
    const columns = needed.map(({ column }) => `t.${column.sql}`)
    const guard = source === 'table' ? guardValueSql(mapping.guard, 't') : `t.${extra.guard}`
    const guardHolds = this.#guardHolds(step, guard, slots)
    const asExpected = expectedSql(expected, slots)
    const leavesOut = shape.checksLeftOut
      ? `exists (select 1 from ${mapping.table.sql} as t${joins.sql} where (${found}) is not true)`
      : 'true'
    const lock = isRemove || changesKey(mapping, step.set) ? 'update' : 'no key update'
    const differs = isRemove
      ? 'true'
      : `record_image_ne(row(${values.map(({ property }) => `hit.${property.column.sql}`).join(', ')}), row(${newNames.map((name) => `hit.${name}`).join(', ')}))`
    const mayWrite = [extra.guard_holds, extra.as_expected, extra.differs].map((name) => `hit.${name}`).join(' and ')
    const bump =
      mapping.guard.by === 'version' && mapping.guard.bumpedBy === 'ledgerman'
        ? [`${mapping.guard.property.column.sql} = hit.${mapping.guard.property.column.sql} + 1`]
        : []
    const assignments = [...values.map(({ property }, at) => `${property.column.sql} = hit.${newNames[at]}`), ...bump]
    const join = mapping.key.map(({ column }) => `t.${column.sql} = hit.${column.sql}`).join(' and ')
    const keyNames = mapping.key.map((_, at) => freshNames(mapping, [`key_${at + 1}`])[`key_${at + 1}`])
    const write = isRemove
      ? `delete from ${mapping.table.sql} as t\n  using h${no} as hit`
      : `update ${mapping.table.sql} as t\n  set ${assignments.join(', ')}\n  from h${no} as hit`
    const from = source === 'table' ? `${mapping.table.sql} as t` : `h${source.step} as t`
    const order = source === 'table' ? `\n    order by ${keyColumns(mapping, 't')}\n    for ${lock} of t` : ''
    const returned = [
      ...(isLean ? [] : touched.map(({ column }) => `t.${column.sql}`)),
      `${isRemove ? 'null::text' : guardAfterSql(mapping, 't')} as ${extra.guard}`,
      `true as ${extra.written}`,
      ...mapping.key.map(({ column }, at) => `hit.${column.sql} as ${keyNames[at]}`),
      ...this.#image(step, slots, { before: 'hit', after: isRemove ? null : 't' }),
    ]
    const both = `from h${no} as hit left join d${no} as done on ${mapping.key.map(({ column }, at) => `done.${keyNames[at]} = hit.${column.sql}`).join(' and ')}`
    this.#parts.push(
      `h${no} as materialized (
  select hit.*, ${differs} as ${extra.differs}
  from (
    select ${[...columns, ...news].join(', ')}, ${guardHolds} as ${extra.guard_holds}, ${asExpected} as ${extra.as_expected},
      ${guard} as ${extra.guard}
    from ${from}${joins.sql}
    where ${found} and ${condition}${order}
  ) as hit
)`,
      `d${no} as (
  ${write}
  where ${join} and ${mayWrite}
  returning ${returned.join(', ')}
)`,
    )
    const isJoined = source !== 'table' && step.when === null
    const [hit, done] = isJoined ? [`r${no}`, `e${no}`] : ['hit', 'done']
    const kept = (property: Property) => `${touched.includes(property) ? done : hit}.${property.column.sql}`
    const brokenRule = isRemove ? NO_RULE : brokenRuleSql(mapping, `${done}.${extra.written}`, kept, slots)
    const verdict = `${hit}.${extra.guard_holds} and ${hit}.${extra.as_expected} and (${done}.${extra.written} is not null or not ${hit}.${extra.differs})${brokenRule === NO_RULE ? '' : ` and (${brokenRule}) is null`}`
    if (isJoined) {
      const changed = `(${done}.${extra.written} is not null)::integer`
      this.#joined.push({
        no,
        verdict: `coalesce(${verdict}, false)`,
        changed,
        parts: [`h${no} as ${hit}`, `d${no} as ${done}`],
      })
    } else {
      const verdicts = [
        fitsSql(step.expect, 'count(*)'),
        `coalesce(bool_and(${verdict}), true)`,
        ...(shape.checksLeftOut ? [`(count(*) = 0 or ${leavesOut})`] : []),
      ]
      this.#gate(step, verdicts.join(' and '), {
        matched: 'count(*)',
        changed: `count(done.${extra.written})`,
        from: both,
      })
    }
    if (isLean) {
      const image = `json_build_array(${extra.image_key}, ${extra.image_before}, ${extra.image_after}, ${extra.guard})`
      this.#give(step, image, `from d${no}`, keyNames.join(', '))
      return
    }
    const texts = [
      ...wireTexts('hit', mapping.properties),
      wireBoolean(`hit.${extra.differs}`),
      wireBoolean(`done.${extra.written}`),
      `hit.${extra.guard}`,
      `done.${extra.guard}`,
      ...(isRemove ? [] : wireTexts('done', touched)),
    ]
    this.#give(step, `array_to_json(array[${texts.join(', ')}])`, both, keyColumns(mapping, 'hit'))
  }

  #add(step: PlannedWrite, condition: string, slots: StepSlots): void {
    const { no, mapping, shape } = step
    const surroundings = this.#surroundings
    const extra = extraNames(mapping)
    const news = shape.values.map((value) => newValueSql(value, null, slots, surroundings))
    const all = mapping.properties.map(({ column }) => `t.${column.sql}`).join(', ')
    const image = this.#image(step, slots, { before: null, after: 't' })
    this.#parts.push(`d${no} as (
  insert into ${mapping.table.sql} as t (${shape.values.map(({ property }) => property.column.sql).join(', ')})
  select ${news.join(', ')} where ${condition}
  returning ${all}, ${guardAfterSql(mapping, 't')} as ${extra.guard}, true as ${extra.written}, ${image.join(', ')}
)`)
    const from = `from d${no} as done`
    const brokenRule = brokenRuleSql(mapping, `done.${extra.written}`, ({ column }) => `done.${column.sql}`, slots)
    this.#gate(step, `count(*) = 1${brokenRule === NO_RULE ? '' : ` and bool_and((${brokenRule}) is null)`}`, {
      matched: 'count(*)',
      changed: 'count(*)',
      from,
    })
    const texts = [...wireTexts('done', mapping.properties), `done.${extra.guard}`]
    this.#give(step, `array_to_json(array[${texts.join(', ')}])`, from, null)
  }

  /** The condition by which a step comes after what was judged before it. */
  get #before(): string {
    return `(select ok from ${this.#last})`
  }

  #gate(
    step: PlannedStep,
    verdict: string,
    { matched, changed, from }: Record<'matched' | 'changed' | 'from', string>,
  ) {
    const { no } = step
    const judged = step.when ? `(not (select yes from w${no}) or ${verdict})` : verdict
    this.#parts.push(`g${no} as materialized (
  select ${refuseUnless(judged, `step ${no}`)} as ok, ${matched}::bigint as matched, ${changed}::bigint as changed, clock_timestamp() as at${from && `\n  ${from}`}
)`)
    this.#gates.set(no, { part: `g${no}`, matched: 'matched', changed: 'changed' })
    this.#isJudged(no)
  }

  /** Judges the steps that wait for it, in one part: none of them can wait for a lock, so that their order is nobody's concern. */
  #judgeJoined(): void {
    const last = this.#joined.at(-1)
    if (!last) return
    const { no } = last
    const verdict = this.#joined.map((each) => each.verdict).join(' and ')
    const parts = this.#joined.flatMap((each) => each.parts)
    const from =
      parts.length === 0
        ? ''
        : `\n  from (select 1) as one ${parts.map((part) => `left join ${part} on true`).join(' ')}`
    const changes = this.#joined.map((each) => `${each.changed}::bigint as changed_${each.no}`)
    this.#parts.push(`g${no} as materialized (
  select ${refuseUnless(parts.length === 0 ? `${this.#before} and ${verdict}` : verdict, `step ${this.#joined[0]?.no} to ${no}`)} as ok,
    1::bigint as matched, ${changes.join(', ')}, clock_timestamp() as at${from}
)`)
    for (const each of this.#joined)
      this.#gates.set(each.no, { part: `g${no}`, matched: 'matched', changed: `changed_${each.no}` })
    this.#joined = []
    this.#isJudged(no)
  }

  #isJudged(no: number): void {
    this.#durations.set(no, `g${no}.at - ${this.#last}.at`)
    this.#last = `g${no}`
  }

  /** Whether every row of a load is given back. */
  #givesAll(no: number): boolean {
    const expect = this.plan.steps[no - 1]?.expect
    return expect === 'one' || (typeof expect === 'number' && expect <= ROWS_GIVEN)
  }

  #give({ no, expect }: PlannedStep, row: string, from: string, order: string | null): void {
    const isOne = order === null || expect === 'one' || expect === 1
    this.#rows.push(`(select ${no}, ${row} ${from}${isOne ? '' : ` order by ${order} limit ${ROWS_GIVEN}`})`)
  }

  /** The columns of an image that the step's `returning` gives beside the row, for the book. */
  #image(step: PlannedWrite, slots: StepSlots, alias: { before: string | null; after: string | null }): string[] {
    const names = extraNames(step.mapping)
    const { key, before, after } = imageSidesSql(step.mapping, slots, step.touched, alias)
    const entry = `${this.#entrySlot('id')}::uuid`
    this.#images.push(
      `select ${entry}, ${step.no}, ${recordHashSql(names.image_key)}, ${names.image_key}, ${names.image_before}, ${names.image_after} from d${step.no}`,
    )
    return [`${key} as ${names.image_key}`, `${before} as ${names.image_before}`, `${after} as ${names.image_after}`]
  }

  #guardHolds(step: PlannedWrite, guard: string, slots: StepSlots): string {
    const { shape, mapping, guards, loadedName } = step
    if (shape.kind === 'add' || !shape.guarded) return 'true'
    if (guards !== 'loaded') return guardHoldsSql(mapping.guard, 't', slots)
    const loaded = `(select ${extraNames(mapping).guard} from ${this.#recordOf(loadedName ?? '')})`
    return `coalesce(${guard} = ${loaded}, false)`
  }

  /** The part of the statement whose one row is the record of that name. */
  #recordOf(name: string): string {
    const step = this.#named.get(name)
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

  get #surroundings(): Surroundings {
    return {
      parameters: this.#parameters,
      loadedNames: [...this.#named.keys()],
      loaded: ([name = '', propertyName = '']) => {
        const property = this.#propertyOf(name, propertyName)
        if (!property) return undefined
        const { column, sensitive } = property
        return {
          sql: comparedSql(`(select ${column.sql} from ${this.#recordOf(name)})`, column.type),
          type: column.type,
          sensitive,
        }
      },
      outcome: ({ of, name }) => this.#outcome(of, name),
    }
  }

  #propertyOf(name: string, property: string): Property | undefined {
    const step = this.#named.get(name)
    return step && 'mapping' in step ? step.mapping.byName.get(property) : undefined
  }

  #outcome(of: 'matched' | 'changed', name: string): string {
    const no = this.#named.get(name)?.no ?? 0
    if (!this.#gates.has(no)) this.#judgeJoined()
    const gate = this.#gates.get(no)
    return gate ? `(select ${gate[of]} from ${gate.part})` : '0'
  }

  #verdict(expression: NamedExpression, slots: StepSlots): string {
    return `coalesce(${valueSql(expression, null, slots, this.#surroundings, plainType('boolean'))}, false)`
  }

  /** The text of a bind that an earlier step gives. */
  #lateBind(step: PlannedStep, { source, sensitive }: Slot): string {
    if (source.from === 'outcome') return `${this.#outcome(source.of, source.name)}::text`
    if (source.from === 'loaded') {
      const property = this.#propertyOf(source.name, source.property)
      if (!property) return 'null::text'
      const text = `(select ${wireTextSql(property.column.sql, property.column.type)} from ${this.#recordOf(source.name)})`
      return sensitive ? `case when ${text} is not null then ${digestSql(text, this.#slots)} end` : text
    }
    const record = isWrite(step) ? step.loadedName : null
    const guard = isWrite(step) ? extraNames(step.mapping).guard : ''
    return `(select '{' || ${guard} || '}' from ${this.#recordOf(record ?? '')})`
  }

  /** The entry. What only the statement knows goes to its places in two texts: the counts, then binds that an earlier step gave. */
  #entry(): string {
    const late = this.plan.steps.flatMap((step) =>
      shownStatement(step).slots.flatMap((slot) => (isLateBind(step, slot) ? [this.#lateBind(step, slot)] : [])),
    )
    const lateBinds =
      late.length === 0 ? '' : ` || array[${late.map((text) => `coalesce(to_json(${text})::text, 'null')`).join(', ')}]`
    const values = [
      `${this.#entrySlot('id')}::uuid`,
      this.#slot(':actor', 'text', { from: 'actor' }),
      `'committed'`,
      `${this.#entrySlot('note')}::text`,
      'matched',
      'changed',
      `format(${this.#slot(':run', 'text', { from: 'run', field: 'run' })}, round(1e4 * date_part('epoch', clock_timestamp() - statement_timestamp())) / 10, reversible)::jsonb`,
      `format(${this.#slot(':steps', 'text', { from: 'run', field: 'steps' })}, variadic told${lateBinds})::json`,
    ]
    return `entered as (
  insert into ledgerman.entry (id, actor, outcome, note, matched, changed, run, steps)
  select ${values.join(', ')} from counts
)`
  }

  /** As `runReversibility` has it: by what those steps leave behind that changed anything. */
  #reversible(): string {
    const gaps = this.plan.steps.flatMap((step) => {
      if (!isWrite(step)) return []
      return [{ no: step.no, leaves: reversibilityOf(step.mapping, step.kind, step.set) }]
    })
    const none = (leaves: 'yes' | 'no') =>
      gaps
        .filter((each) => each.leaves !== leaves)
        .map(({ no }) => `${this.#count('changed', no)} = 0`)
        .join(' and ')
    if (none('yes') === '') return `'yes'`
    return `case when ${none('yes')} then 'yes' when ${none('no') || 'true'} then 'no' else 'partly' end`
  }

  #entrySlot(field: 'id' | 'note'): string {
    const type = field === 'id' ? 'uuid' : 'text'
    return this.#slots.add({ name: `:${field}`, type, sensitive: false, source: { from: 'entry', field } })
  }

  #slot(name: string, type: string, source: Slot['source']): string {
    return `${this.#slots.add({ name, type, sensitive: false, source })}::${type}`
  }
}

/** Whether an image says all that is told of a row that the step wrote: nobody names its other values. */
function isLeanlyGiven({ as, mapping, touched }: PlannedWrite): boolean {
  const isPlain = (property: Property) => !property.sensitive && isSentAsCast(property.column.type)
  return as === null && mapping.rules.length === 0 && [...mapping.key, ...touched].every(isPlain)
}

/** Whether a bind's value comes from an earlier step, and so is known to the statement only. */
export function isLateBind(step: PlannedStep, { source }: Slot): boolean {
  return (
    source.from === 'outcome' ||
    source.from === 'loaded' ||
    (source.from === 'guard' && isWrite(step) && step.guards === 'loaded')
  )
}

const NO_RULE = 'null::integer'

function refuseUnless(verdict: string, what: string): string {
  return `case when ${verdict} then true else ledgerman.refuse('${what}') end`
}

/** Whether a count is one that was expected, as `isExpected` has it. */
function fitsSql(expect: Expectation | null, count: string): string {
  if (typeof expect === 'number') return `${count} = ${expect}`
  switch (expect) {
    case 'one':
      return `${count} = 1`
    case 'none':
      return `${count} = 0`
    case 'some':
      return `${count} >= 1`
    case 'any':
    case null:
      return 'true'
  }
  const [least = '', most = ''] = expect.includes('..') ? expect.split('..') : [expect, expect]
  return `${count} >= ${Number(least || 0)}${most === '' ? '' : ` and ${count} <= ${Number(most)}`}`
}

function extraNames(mapping: Mapping) {
  return freshNames(mapping, [
    'guard',
    'guard_holds',
    'as_expected',
    'differs',
    'written',
    'image_key',
    'image_before',
    'image_after',
  ])
}

function keyColumns(mapping: Mapping, alias: string): string {
  return mapping.key.map(({ column }) => `${alias}.${column.sql}`).join(', ')
}

function wireTexts(alias: string, properties: readonly Property[]): string[] {
  return properties.map(({ column }) => wireTextSql(`${alias}.${column.sql}`, column.type))
}

function wireBoolean(condition: string): string {
  return `case when ${condition} then 't' else 'f' end`
}
