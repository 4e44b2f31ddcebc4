import {
  durationMs,
  isProblem,
  suggestName,
  type AddStep,
  type ChangeStep,
  type Expectation,
  type Json,
  type LoadStep,
  type RemoveStep,
  type StepDefinition,
  type TransactionDefinition,
} from '@ledgerman/contract'
import { parametersOf, type Expression } from '../expression/expression.js'
import { parseExpression } from '../expression/parse.js'
import { plainType } from '../expression/value-type.js'
import type { Links } from '../mapping/links.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { definitionProblem, type DefinitionFinding } from '../mapping/resolve-mapping.js'
import { buildFoundKeys, buildLoadStep, type Finder } from '../statement/build-load-step.js'
import { buildAddStep, buildWriteStep, type NewValue, type WriteShape } from '../statement/build-write-step.js'
import { Astray } from '../statement/joins.js'
import { valueSql, type NamedExpression, type Surroundings } from '../statement/record-scope.js'
import { SlotList, toStatement, type SlotSource } from '../statement/statement.js'
import type { ColumnType } from '../values/column-type.js'
import { comparedSql } from '../values/sql-form.js'
import { ValueError } from '../values/value-error.js'
import { valueToText } from '../values/value-text.js'
import type { Judgement, Plan, PlannedStep, Words } from './plan.js'
import { checkExampleValues, resolveParams, typeOfParam } from './resolve-params.js'
import { resolveSqlStep } from './sql-step.js'
import { parseWords } from './words.js'

/** What a definition's names stand for, asked of the target beforehand. */
export interface Surrounded {
  mappings: ReadonlyMap<string, Mapping>
  links: Links
  /** The types that parameters are of, by the name they have in the definition. */
  types: ReadonlyMap<string, ColumnType>
}

/** A name that an earlier step gave to what it loaded or did. */
interface Loaded {
  /** Null where what it stands for has no properties. */
  mapping: Mapping | null
  /** Whether it is one record, whose properties can be named. */
  isOne: boolean
  kind: StepDefinitionKind
}

type StepDefinitionKind = PlannedStep['kind']

/**
 * Resolves a definition into a plan: every statement built, nothing run.
 *
 * @throws LedgermanProblem definition-invalid with all findings, each with its place.
 */
export function resolveTransaction(
  definition: Omit<TransactionDefinition, 'transaction'>,
  name: string | null,
  revision: number | null,
  surrounded: Surrounded,
): Plan {
  const findings: DefinitionFinding[] = []
  const params = resolveParams(definition, surrounded.types, findings)
  const parameters = new Map(
    [...params].map(([param, { type }]) => [param, type === null ? undefined : typeOfParam(type)]),
  )
  const used = new Set<string>()
  const loaded = new Map<string, Loaded>()
  const isSkipping = definition.lockWait === 'skip'
  const lockWaitMs =
    definition.lockWait === undefined || isSkipping ? null : durationMs(definition.lockWait as string | number)
  const timeLimitMs = definition.timeLimit === undefined ? null : durationMs(definition.timeLimit)
  const prologue = resolvePrologue()
  const steps = definition.steps.flatMap((step, at) => {
    const planned = resolveStep(step, at + 1)
    return planned ? [planned] : []
  })
  for (const param of params.keys())
    if (!used.has(param))
      findings.push({ where: `params.${param}`, message: 'no step uses it; use it, or take it out' })
  checkExampleValues(definition, params, findings)
  if (findings.length > 0) throw definitionProblem(name ?? 'steps', findings, 'transaction')
  return {
    name,
    revision,
    definition,
    params,
    prologue,
    steps,
    isolation: definition.isolation ?? 'read committed',
    lockWaitMs,
    skipLocked: isSkipping,
    timeLimitMs,
    retry: definition.retry ?? DEFAULT_RETRIES,
    mappings: surrounded.mappings,
    links: surrounded.links,
  }

  function resolveStep(step: StepDefinition, no: number): PlannedStep | undefined {
    const where = `steps.${no}`
    const planned = attempt(where, () => plannedStep(step, no, where))
    const as = 'as' in step ? step.as : undefined
    if (as === undefined) return planned
    if (loaded.has(as) || params.has(as) || surrounded.mappings.has(as))
      findings.push({
        where: `${where}.as`,
        message: `${as} is the name of ${loaded.has(as) ? 'an earlier step' : params.has(as) ? 'a parameter' : 'a mapping'} already`,
      })
    loaded.set(as, loadedBy(step, planned))
    return planned
  }

  function plannedStep(step: StepDefinition, no: number, where: string): PlannedStep | undefined {
    const when = step.when === undefined ? null : judgement(`${where}.when`, step.when)
    const common = { no, as: ('as' in step ? step.as : undefined) ?? null, when: when ?? null }
    if ('require' in step) {
      const asked = judgement(`${where}.require`, step.require)
      const otherwise = words(
        `${where}.otherwise`,
        step.otherwise ?? `This has to be true: ${step.require}`,
        step.otherwise !== undefined,
      )
      return asked && { ...common, kind: 'require', expect: 'any', judgement: asked, otherwise }
    }
    if ('sql' in step) {
      const built = resolveSqlStep(step, where, surroundings, findings)
      return built && { ...common, kind: 'sql', expect: step.expect ?? 'any', ...built }
    }
    if ('load' in step) return loadStep(step, where, common)
    if ('add' in step) return addStep(step, where, common)
    return writeStep(step, where, common)
  }

  function loadStep(step: LoadStep, where: string, common: { no: number; as: string | null; when: Judgement | null }) {
    const mapping = mappingOf(step.load, `${where}.load`)
    if (!mapping) return undefined
    const finder = finderOf(mapping, step, where)
    if (!finder) return undefined
    const expect = step.expect ?? (step.key ? 'one' : null)
    if (expect === null)
      findings.push({
        where: `${where}.expect`,
        message: 'a load by where says how many rows it expects: one, some, any, a number or a range',
      })
    const statement = buildLoadStep(
      mapping,
      finder,
      step.lock ?? 'none',
      isSkipping && step.lock !== undefined && step.lock !== 'none',
      surrounded.links,
      surroundings,
    )
    const isLocked = step.lock !== undefined && step.lock !== 'none'
    return {
      ...common,
      kind: 'load' as const,
      mapping,
      statement,
      expect,
      finder,
      lock: step.lock ?? 'none',
      foundKeys: isLocked ? foundKeys(mapping, finder) : null,
    }
  }

  function addStep(step: AddStep, where: string, common: { no: number; as: string | null; when: Judgement | null }) {
    const mapping = mappingOf(step.add, `${where}.add`)
    if (!mapping) return undefined
    const values = newValues(mapping, step, where, (property) => property.lockedForAddBecause)
    const onExisting = step.onExisting ?? 'refuse'
    if (onExisting !== 'refuse' && mapping.key.some((property) => !values.some((value) => value.property === property)))
      findings.push({
        where: `${where}.onExisting`,
        message: `it needs the whole key in values or compute: ${mapping.key.map((property) => property.name).join(', ') || 'the mapping has none'}`,
      })
    const built = buildAddStep(mapping, { kind: 'add', values, onExisting }, surroundings)
    return {
      ...common,
      kind: 'add' as const,
      ...built,
      expect: onExisting === 'keep' ? ('any' as const) : ('one' as const),
      loadedName: null,
      guards: null,
      isByWhere: false,
    }
  }

  function writeStep(
    step: Exclude<StepDefinition, LoadStep | AddStep | { require: string } | { sql: string }>,
    where: string,
    common: { no: number; as: string | null; when: Judgement | null },
  ): PlannedStep | undefined {
    const kind = 'change' in step ? 'change' : 'replace' in step ? 'replace' : 'remove'
    const subject = 'change' in step ? step.change : 'replace' in step ? step.replace : step.remove
    const record = loaded.get(subject)
    if (record && (record.mapping === null || !record.isOne)) {
      findings.push({ where: `${where}.${kind}`, message: `${subject} does not stand for one loaded record` })
      return undefined
    }
    const mapping = record?.mapping ?? mappingOf(subject, `${where}.${kind}`)
    if (!mapping) return undefined
    if (record && (step.key || step.where !== undefined))
      findings.push({ where, message: `${subject} is a loaded record: it needs neither key nor where` })
    const finder = record ? loadedFinder(mapping, subject) : finderOf(mapping, step, where, step.everyRow)
    if (!finder) return undefined
    const isByWhere = 'where' in finder
    const values =
      kind === 'remove' ? [] : newValues(mapping, step as ChangeStep, where, (property) => property.lockedBecause)
    if (kind === 'change' && values.length === 0)
      findings.push({ where, message: 'it sets nothing: name properties in values or compute' })
    if (kind === 'replace') checkReplaced(mapping, values, where)
    const guards = guardsOf(step, where, mapping, record !== undefined)
    const shape: WriteShape = {
      kind,
      finder,
      values,
      expected: literalValues(mapping, step.loaded ?? {}, `${where}.loaded`),
      guarded: guards !== null && guards !== 'any',
      skipLocked: isSkipping,
      checksLeftOut: isByWhere && step.everyRow !== true,
    }
    const built = buildWriteStep(mapping, shape, surrounded.links, surroundings)
    const expect: Expectation | null = step.expect ?? (isByWhere ? null : 'one')
    return {
      ...common,
      kind,
      ...built,
      expect,
      loadedName: record ? subject : null,
      guards,
      isByWhere,
      foundKeys: foundKeys(mapping, finder),
    }
  }

  function foundKeys(mapping: Mapping, finder: Finder) {
    return isSkipping && mapping.key.length > 0 ? buildFoundKeys(mapping, finder, surrounded.links, surroundings) : null
  }

  function guardsOf(
    step: ChangeStep | RemoveStep | Exclude<StepDefinition, LoadStep>,
    where: string,
    mapping: Mapping,
    isLoaded: boolean,
  ) {
    const guard = 'guard' in step ? step.guard : undefined
    if (guard === undefined) return isLoaded && mapping.guard.by !== 'none' ? ('loaded' as const) : null
    if (guard === 'any') return 'any' as const
    const parameter = /^:([\p{L}_][\p{L}\p{N}_]*)$/u.exec(guard)?.[1]
    if (parameter === undefined) return [guard]
    used.add(parameter)
    if (params.has(parameter)) return { parameter }
    findings.push({ where: `${where}.guard`, message: `:${parameter} is not known here` })
    return null
  }

  function finderOf(
    mapping: Mapping,
    step: Pick<LoadStep, 'key' | 'where'>,
    where: string,
    everyRow = false,
  ): Finder | undefined {
    if (step.key && step.where !== undefined) {
      findings.push({ where, message: 'it has both key and where; say one' })
      return undefined
    }
    if (step.where !== undefined) {
      const named = read(`${where}.where`, step.where)
      return named && { where: named }
    }
    if (!step.key) {
      if (everyRow) return { where: null }
      findings.push({ where, message: 'it says neither key nor where' })
      return undefined
    }
    if (mapping.key.length === 0) {
      findings.push({ where: `${where}.key`, message: `${mapping.name} has no key; use where and a stated count` })
      return undefined
    }
    const keys = Object.keys(step.key)
    const unknown = keys.filter((each) => !mapping.byName.has(each))
    for (const each of unknown)
      findings.push({
        where: `${where}.key.${each}`,
        message: `${each} is not a property of ${mapping.name}; ${suggestName(each, mapping.byName.keys())}`,
      })
    if (unknown.length > 0) return undefined
    const columns = new Set(keys.map((each) => mapping.byName.get(each)?.column.name))
    const isKey = mapping.key.length === keys.length && mapping.key.every((property) => keys.includes(property.name))
    const isUnique = mapping.table.uniques.some(
      (unique) => unique.columns.length === columns.size && unique.columns.every((column) => columns.has(column)),
    )
    if (!isKey && !isUnique)
      findings.push({
        where: `${where}.key`,
        message: `${keys.join(', ')} is no unique key of ${mapping.name}; its key is ${mapping.key.map((property) => property.name).join(', ')}`,
      })
    const parts = Object.entries(step.key).flatMap(([property, source]) => {
      const expression = read(`${where}.key.${property}`, String(source))
      return expression ? [{ property, expression }] : []
    })
    return parts.length === keys.length ? { key: parts } : undefined
  }

  function loadedFinder(mapping: Mapping, subject: string): Finder {
    return {
      key: mapping.key.map(({ name: property }) => {
        const source = `${subject}.${property}`
        return { property, expression: { label: 'key', source, expression: parseExpression(source) } }
      }),
    }
  }

  function newValues(
    mapping: Mapping,
    { values = {}, compute = {} }: Pick<ChangeStep, 'values' | 'compute'>,
    where: string,
    lockOf: (property: Property) => string | null,
  ): NewValue[] {
    const computed = Object.entries(compute).flatMap(([property, source]): NewValue[] => {
      const found = propertyOf(mapping, property, `${where}.compute.${property}`)
      const expression = read(`${where}.compute.${property}`, String(source))
      return found && expression ? [{ property: found, expression }] : []
    })
    const both = Object.keys(values).filter((property) => Object.hasOwn(compute, property))
    for (const property of both)
      findings.push({ where: `${where}.compute.${property}`, message: `${property} stands in values as well` })
    const all = [...literalValues(mapping, values, `${where}.values`), ...computed]
    for (const { property } of all) {
      const lock = lockOf(property)
      const part = Object.hasOwn(compute, property.name) ? 'compute' : 'values'
      if (lock !== null)
        findings.push({
          where: `${where}.${part}.${property.name}`,
          message: `${property.name} cannot be set: ${lock}`,
        })
    }
    return mapping.properties.flatMap((property) => all.find((value) => value.property === property) ?? [])
  }

  function literalValues(
    mapping: Mapping,
    values: Record<string, unknown>,
    where: string,
  ): (NewValue & { text: string | null })[] {
    return Object.entries(values).flatMap(([name, value]) => {
      const at = `${where}.${name}`
      const property = propertyOf(mapping, name, at)
      if (!property) return []
      if (typeof value === 'string' && /^:[\p{L}_]/u.test(value) && property.column.type.kind !== 'enum') {
        findings.push({
          where: at,
          message: `"${value}" looks like a parameter; values holds literal values: use compute: { ${name}: "${value}" }`,
        })
        return []
      }
      try {
        return [{ property, text: valueToText(value as Json, property.column.type) }]
      } catch (error) {
        if (!(error instanceof ValueError)) throw error
        findings.push({ where: at, message: `expected ${error.expected}` })
        return []
      }
    })
  }

  function checkReplaced(mapping: Mapping, values: NewValue[], where: string): void {
    const lost = mapping.properties.filter(
      (property) => property.lockedBecause === null && !values.some((value) => value.property === property),
    )
    if (lost.length > 0)
      findings.push({
        where,
        message: `a replacement names every property that can be set; ${lost.map((property) => property.name).join(', ')} would be lost`,
      })
  }

  function judgement(where: string, source: string): Judgement | undefined {
    const named = read(where, source)
    if (!named) return undefined
    const slots = new SlotList()
    const sql = valueSql(named, null, slots, surroundings(slots), plainType('boolean'))
    return { source, expression: named, statement: toStatement(`select coalesce(${sql}, false)`, slots) }
  }

  function resolvePrologue(): Plan['prologue'] {
    const slots = new SlotList()
    const text = (slotName: string, source: SlotSource) =>
      `${slots.add({ name: slotName, type: 'text', sensitive: false, source })}::text`
    // lock_timeout 0 would wait for ever: one millisecond is at once.
    const limit = (setting: string, ms: number | null) =>
      ms === null
        ? []
        : [
            `set_config('${setting}', ${text(`:${setting}`, { from: 'value', text: String(Math.max(1, ms)), at: setting })}, true)`,
          ]
    const settings = [
      `set_config('ledgerman.actor', ${text(':actor', { from: 'actor' })}, true)`,
      `set_config('application_name', 'ledgerman run ' || ${text(':run', { from: 'entry', field: 'id' })}, true)`,
      ...limit('lock_timeout', lockWaitMs),
      ...limit('statement_timeout', timeLimitMs),
    ]
    const rules = Object.entries(definition.params ?? {}).flatMap(([param, { rule }]) => {
      const named = rule === undefined ? undefined : read(`params.${param}.rule`, rule)
      const sql =
        named && attempt(named.label, () => valueSql(named, null, slots, surroundings(slots), plainType('boolean')))
      return named && sql !== undefined ? [{ name: param, expression: named, sql: `coalesce(${sql}, false)` }] : []
    })
    return {
      statement: toStatement(`select ${[...settings, ...rules.map(({ sql }) => sql)].join(', ')}`, slots),
      settings: settings.length,
      rules: rules.map(({ name: param, expression }) => ({ name: param, source: expression.source, expression })),
    }
  }

  /** Reads an expression; what is wrong with it is found and told with its place. */
  function read(label: string, source: string): NamedExpression | undefined {
    return attempt(label, () => {
      const expression: Expression = parseExpression(source)
      for (const parameter of parametersOf(expression)) used.add(parameter)
      return { label, source, expression }
    })
  }

  /** What an expression may name beside a record's own properties, for the slots of one statement. */
  function surroundings(slots: SlotList): Surroundings & { used: Set<string> } {
    const names = new Map(loaded)
    return {
      used,
      parameters,
      loadedNames: [...names.keys()],
      loaded(path) {
        const [name = '', property = '', ...more] = path
        const record = names.get(name)
        if (!record) return undefined
        if (record.mapping === null || !record.isOne)
          throw new Astray(
            `${name} does not stand for one record; matched(${name}) and changed(${name}) give its counts`,
          )
        const found = more.length === 0 ? record.mapping.byName.get(property) : undefined
        if (!found)
          throw new Astray(
            `${path.slice(1).join('.') || 'that'} is not a property of ${record.mapping.name}; ${suggestName(property, record.mapping.byName.keys())}`,
          )
        const { type } = found.column
        const placeholder = slots.add({
          name: path.join('.'),
          type: type.comparable,
          sensitive: found.sensitive,
          source: { from: 'loaded', name, property },
        })
        return { sql: comparedSql(placeholder, type), type, sensitive: found.sensitive }
      },
      outcome({ of, name }) {
        if (!names.has(name)) throw new Astray(`${name} is no earlier step; ${suggestName(name, names.keys())}`)
        return `${slots.add({ name: `${of}(${name})`, type: 'bigint', sensitive: false, source: { from: 'outcome', of, name } })}::bigint`
      },
    }
  }

  function words(where: string, source: string, isTemplate: boolean): Words {
    if (!isTemplate) return { source, parts: [source] }
    const parsed = parseWords(source)
    for (const part of parsed.parts) {
      if (typeof part === 'string') continue
      if ('parameter' in part) {
        used.add(part.parameter)
        if (!params.has(part.parameter))
          findings.push({
            where,
            message: `{:${part.parameter}} is not a parameter; ${suggestName(part.parameter, params.keys())}`,
          })
      } else if (!loaded.get(part.loaded)?.mapping?.byName.has(part.property))
        findings.push({
          where,
          message: `{${part.loaded}.${part.property}} is not a property of an earlier step's record`,
        })
    }
    return parsed
  }

  function mappingOf(mappingName: string, where: string): Mapping | undefined {
    const mapping = surrounded.mappings.get(mappingName)
    if (mapping) return mapping
    const known = [...surrounded.mappings.keys(), ...[...loaded].filter(([, { isOne }]) => isOne).map(([each]) => each)]
    findings.push({ where, message: `there is no mapping ${mappingName}; ${suggestName(mappingName, known)}` })
    return undefined
  }

  function propertyOf(mapping: Mapping, property: string, where: string): Property | undefined {
    const found = mapping.byName.get(property)
    if (!found)
      findings.push({
        where,
        message: `${property} is not a property of ${mapping.name}; ${suggestName(property, mapping.byName.keys())}`,
      })
    return found
  }

  function attempt<T>(where: string, work: () => T): T | undefined {
    try {
      return work()
    } catch (error) {
      if (!isProblem(error, 'expression-invalid')) throw error
      const place = String(error.facts['where'])
      findings.push({ where: place === 'expression' ? where : place, message: error.detail })
      return undefined
    }
  }
}

const DEFAULT_RETRIES = 3

function loadedBy(step: StepDefinition, planned: PlannedStep | undefined): Loaded {
  const mapping = planned && 'mapping' in planned ? planned.mapping : null
  const isOne = planned?.kind === 'add' || planned?.expect === 'one' || planned?.expect === 1
  return {
    mapping,
    isOne: isOne && planned?.kind !== 'remove',
    kind: planned?.kind ?? ('sql' in step ? 'sql' : 'load'),
  }
}
