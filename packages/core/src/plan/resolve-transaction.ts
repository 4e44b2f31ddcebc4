import {
  durationMs,
  type AddStep,
  type ChangeStep,
  type Expectation,
  type LoadStep,
  type StepDefinition,
  type TransactionDefinition,
} from '@ledgerman/contract'
import type { Mapping, Property } from '../mapping/mapping.js'
import { definitionProblem } from '../mapping/resolve-mapping.js'
import { buildFoundKeys, buildLoadStep, type Finder } from '../statement/build-load-step.js'
import { buildAddStep, buildWriteStep } from '../statement/build-write-step.js'
import { type WriteShape } from '../statement/step-shape.js'
import { DefinitionScope, type Loaded, type Surrounded } from './definition-scope.js'
import type { Judgement, Plan, PlannedStep } from './plan.js'
import { checkExampleValues } from './resolve-params.js'
import { resolvePrologue } from './resolve-prologue.js'
import { resolveSqlStep } from './sql-step.js'
import { hideSensitive } from './hide-sensitive.js'
import { firstRows } from './first-rows.js'
import { finderOf, guardsOf, loadedFinder } from './step-finder.js'
import { subjectOf } from './step-subject.js'
import { checkReplaced, literalValues, namesAny, newValues } from './step-values.js'

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
  const scope = new DefinitionScope(definition, surrounded)
  const { findings, params, loaded, surroundings } = scope
  const isSkipping = definition.lockWait === 'skip'
  const lockWaitMs =
    definition.lockWait === undefined || isSkipping ? null : durationMs(definition.lockWait as string | number)
  const timeLimitMs = definition.timeLimit === undefined ? null : durationMs(definition.timeLimit)
  const prologue = resolvePrologue(definition, scope, { lockWaitMs, timeLimitMs })
  const steps = definition.steps.flatMap((step, at) => {
    const planned = resolveStep(step, at + 1)
    return planned ? [planned] : []
  })
  // A step that could not be read may use any of them.
  const areRead = !findings.some(({ where }) => where.startsWith('steps.'))
  for (const param of params.keys())
    if (areRead && !scope.used.has(param))
      findings.push({ where: `params.${param}`, message: 'no step uses it; use it, or take it out' })
  checkExampleValues(definition, params, findings)
  if (findings.length > 0) throw definitionProblem(name, findings, 'transaction')
  return {
    name,
    revision,
    definition,
    params,
    sensitiveParams: hideSensitive(prologue.statement, steps),
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
    const planned = scope.attempt(where, () => plannedStep(step, no, where))
    const as = 'as' in step ? step.as : undefined
    if (as === undefined) return planned
    if (loaded.has(as) || params.has(as) || surrounded.mappings.has(as))
      findings.push({
        where: `${where}.as`,
        message: `${as} is the name of ${loaded.has(as) ? 'an earlier step' : params.has(as) ? 'a parameter' : 'a mapping'} already`,
      })
    loaded.set(as, loadedBy(step, planned, scope))
    return planned
  }

  function plannedStep(step: StepDefinition, no: number, where: string): PlannedStep | undefined {
    const when = step.when === undefined ? null : scope.judgement(`${where}.when`, step.when)
    const common = { no, as: ('as' in step ? step.as : undefined) ?? null, when: when ?? null }
    if ('require' in step) {
      const asked = scope.judgement(`${where}.require`, step.require)
      const otherwise = scope.words(
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
    const mapping = scope.mappingOf(step.load, `${where}.load`)
    if (!mapping) return undefined
    const finder = finderOf(scope, mapping, step, where)
    if (!finder) return undefined
    const expect = step.expect ?? (step.key ? 'one' : null)
    if (expect === null)
      findings.push({
        where: `${where}.expect`,
        message: 'a load by where says how many rows it expects: one, some, any, a number or a range',
      })
    const lock = step.lock ?? 'none'
    const isLocked = lock !== 'none'
    const first = firstRows(scope, mapping, step, where)
    const shape = { finder, first, lock, skipLocked: isSkipping && isLocked }
    const build = (isForCode = false) => buildLoadStep(mapping, shape, surrounded.links, surroundings, isForCode)
    return {
      ...common,
      kind: 'load' as const,
      mapping,
      statement: build(),
      inCode: () => build(true),
      expect,
      finder,
      first,
      lock,
      // Which rows are left out is told of all that fit, and not where only the first of them are wanted.
      foundKeys: isLocked && !first ? foundKeys(mapping, finder) : null,
    }
  }

  function addStep(step: AddStep, where: string, common: { no: number; as: string | null; when: Judgement | null }) {
    const mapping = scope.mappingOf(step.add, `${where}.add`)
    if (!mapping) return undefined
    if (mapping.properties.length === 0)
      findings.push({ where: `${where}.add`, message: `${mapping.name} has no properties: there is nothing to add` })
    const values = newValues(scope, mapping, step, where, (property) => property.lockedForAddBecause)
    const said = step.onExisting ?? 'refuse'
    // Where nothing but the key is given, there is nothing to change.
    const onExisting = said === 'change' && values.every(({ property }) => property.key) ? 'keep' : said
    const isKnown = (property: Property) => values.some((value) => value.property === property)
    if (said !== 'refuse' && (mapping.key.length === 0 || !mapping.key.every(isKnown)))
      findings.push({
        where: `${where}.onExisting`,
        message: `it needs the whole key in values or compute: ${mapping.key.map((property) => property.name).join(', ') || 'the mapping has none'}`,
      })
    const looks = onExisting === 'change' || (onExisting === 'keep' && common.as !== null)
    const built = buildAddStep(mapping, { kind: 'add', values, onExisting, looks }, surroundings)
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
      if (!record.isAmiss)
        findings.push({ where: `${where}.${kind}`, message: `${subject} does not stand for one loaded record` })
      return undefined
    }
    const mapping = record?.mapping ?? scope.mappingOf(subject, `${where}.${kind}`)
    if (!mapping) return undefined
    if (record && (step.key || step.where !== undefined))
      findings.push({ where, message: `${subject} is a loaded record: it needs neither key nor where` })
    const finder = record ? loadedFinder(mapping, subject) : finderOf(scope, mapping, step, where, step.everyRow)
    if (!finder) return undefined
    const isByWhere = 'where' in finder
    // A row of a table is found again by its place; one of a view has none.
    if (mapping.key.length === 0 && mapping.table.kind === 'view')
      findings.push({
        where: `${where}.${kind}`,
        message: `${mapping.table.path} is a view, and ${mapping.name} has no key: no row of it can be told from another. Name the properties that identify a record in the key of ${mapping.name}`,
      })
    const values =
      kind === 'remove'
        ? []
        : newValues(scope, mapping, step as ChangeStep, where, (property) => property.lockedBecause)
    if (kind === 'change' && !namesAny(step as ChangeStep))
      findings.push({ where, message: 'it sets nothing: name properties in values or compute' })
    if (kind === 'replace') checkReplaced(scope, mapping, values, where)
    const guards = guardsOf(scope, step, where, mapping, record !== undefined)
    const shape: WriteShape = {
      kind,
      finder,
      values,
      expected: literalValues(scope, mapping, step.loaded ?? {}, `${where}.loaded`, false),
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
}

const DEFAULT_RETRIES = 3

/** @param scope what the step is about is looked up there where it could not be resolved, so that nothing but that is told of it */
function loadedBy(step: StepDefinition, planned: PlannedStep | undefined, scope: DefinitionScope): Loaded {
  if (!planned && !('sql' in step)) {
    const subject = subjectOf(step) ?? ''
    const mapping = scope.mappings.get(subject) ?? scope.loaded.get(subject)?.mapping ?? null
    const isOne = 'add' in step || 'key' in step || ('expect' in step && (step.expect === 1 || step.expect === 'one'))
    return { mapping, isOne, isAmiss: true, kind: 'load' }
  }
  const mapping = planned && 'mapping' in planned ? planned.mapping : null
  const isOne = planned?.kind === 'add' || planned?.expect === 'one' || planned?.expect === 1
  return {
    mapping,
    isOne: isOne && planned?.kind !== 'remove',
    isAmiss: !planned,
    kind: planned?.kind ?? ('sql' in step ? 'sql' : 'load'),
  }
}
