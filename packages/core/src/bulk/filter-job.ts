import {
  LedgermanProblem,
  type Images,
  type JobInput,
  type JobReport,
  type Json,
  type TransactionDefinition,
} from '@ledgerman/contract'
import { keptCondition } from '../plan/kept-condition.js'
import type { FindMappingByName } from '../mapping/links.js'
import type { Plan, PlannedWrite } from '../plan/plan.js'
import { namedParams } from '../plan/named-params.js'
import { readParams } from '../plan/read-params.js'
import { typeOfParam } from '../plan/resolve-params.js'
import { resolvePlan } from '../plan/resolve-plan.js'
import { toldOfRequest } from '../plan/told-of-request.js'
import { roundingsOf } from '../plan/roundings.js'
import { StepBinds } from '../run/steps/step-binds.js'
import { finderSql } from '../statement/build-load-step.js'
import { newValueSql, type WriteShape } from '../statement/step-shape.js'
import { Aliases, Joins } from '../statement/joins.js'
import type { Surroundings } from '../statement/record-scope.js'
import type { Target } from '../target/target.js'
import { findBookedChunk, resultOf } from './book-bulk.js'
import type { BulkRequest, BulkResult } from './bulk-request.js'
import { BulkSession, type BulkTask } from './bulk-session.js'
import type { BulkShape } from './bulk-shape.js'

/** A change or removal by condition that fits the target: everything about it is checked but what the rows say. */
export interface FilterJob {
  plan: Plan
  step: PlannedWrite
  input: JobInput
  params: ReadonlyMap<string, string | null>
}

/** All rows, whatever their number in a file: a change by condition has no file. */
const ALL = { first: 0, last: Number.MAX_SAFE_INTEGER }

/**
 * Reads what is asked for, as a step of a transaction is read.
 *
 * @throws LedgermanProblem count-required, request-invalid, definition-invalid, expression-invalid, value-invalid, book-not-prepared
 */
export async function resolveFilterJob(
  target: Target,
  input: JobInput,
  findMapping: FindMappingByName,
): Promise<FilterJob> {
  assertSays(input)
  const { mapping, where, values, compute, remove, expect, everyRow, params = {} } = input
  const finder = {
    ...(where === undefined ? {} : { where }),
    ...(everyRow ? { everyRow } : {}),
    expect: expect ?? 'any',
  }
  const sets = { ...(values ? { values } : {}), ...(compute ? { compute } : {}) }
  const step = remove ? { remove: mapping, ...finder } : { change: mapping, ...finder, ...sets }
  const named = namedParams([...(where === undefined ? [] : [where]), ...Object.values(compute ?? {}).map(String)])
  const declared = [...new Set([...named, ...Object.keys(params)])].map((name) => [
    name,
    { type: 'unknown', nullable: true },
  ])
  const definition = {
    steps: [step],
    params: Object.fromEntries(declared) as Record<string, { type: string }>,
  } as Omit<TransactionDefinition, 'transaction'>
  const plan = await resolvePlan(target, definition, null, null, findMapping).catch((error: unknown) => {
    throw toldOfRequest(error, /^steps\.1\.?/)
  })
  if (input.mode === 'commit') await target.assertBook()
  return {
    plan,
    step: plan.steps[0] as PlannedWrite,
    input,
    params: readParams(plan, params as Record<string, Json>),
  }
}

function assertSays({ mode, where, everyRow, expect, rehearsal, remove, values, compute }: JobInput): void {
  const refuse = (where: string, detail: string) => {
    throw new LedgermanProblem('request-invalid', detail, { where })
  }
  if (remove && (values !== undefined || compute !== undefined))
    refuse('remove', 'remove: what is removed gets no values. Leave values and compute out, or remove.')
  if (rehearsal !== undefined && mode === 'rehearse')
    refuse('rehearsal', 'rehearsal: a token is given to commit what was rehearsed. Leave it out of a rehearsal.')
  if (where === undefined && !everyRow)
    refuse('where', 'where: it names no condition. Give one; or, if every record is meant, say everyRow: true.')
  if (mode === 'commit' && expect === undefined && rehearsal === undefined)
    throw new LedgermanProblem(
      'count-required',
      "A change of many records says how many it has to match, or was rehearsed. Rehearse it (mode: rehearse), look at what it would do, and commit it with the rehearsal's token; or say expect.",
      { where: 'expect' },
    )
}

/** Runs it: one statement in the database, whatever the number of rows. @throws BulkRefused, LedgermanProblem */
export async function runFilterJob(target: Target, job: FilterJob, request: BulkRequest): Promise<BulkResult> {
  const task: BulkTask = {
    target,
    shape: shapeOf(job),
    request,
    given: givenOf(target, job, request),
    condition: conditionOf(job),
  }
  return BulkSession.within(task, async (session) => {
    const before = request.mode === 'commit' ? await findBookedChunk(session.session, request, null) : undefined
    if (before) return resultOf({ ...before, report: withRoundings(before.report, task.shape) })
    const result = await session.run(null, {
      expect: job.input.expect ?? 'any',
      leavesFailed: false,
      range: ALL,
      count: 0,
      rehearsed: request.rehearsed,
    })
    return { ...result, report: withRoundings(result.report, task.shape) }
  })
}

function withRoundings(report: JobReport, { roundings = [] }: BulkShape): JobReport {
  return report.changed > 0 && roundings.length > 0 ? { ...report, rounded: roundings } : report
}

/** The condition as it may be shown and kept. */
export function conditionOf({ input, step }: FilterJob): string {
  return keptCondition(input.where ?? 'true', step.step)
}

function shapeOf({ plan, step, input }: FilterJob): BulkShape {
  const { mapping, touched, set } = step
  const shape = step.shape as WriteShape
  const parameters = new Map(
    [...plan.params].map(([name, { type }]) => [name, type === null ? undefined : typeOfParam(type)]),
  )
  const surroundings: Surroundings = { parameters }
  return {
    mapping,
    kind: shape.kind === 'remove' ? 'remove' : 'change',
    images: input.images as Images,
    set,
    touched,
    newJoins: () => new Joins(mapping, 't', plan.links, new Aliases()),
    news: (joins, slots) => shape.values.map((value) => newValueSql(value, joins, slots, surroundings)),
    condition: (joins, slots) => finderSql(mapping, shape.finder, joins, slots, surroundings),
    given: null,
    checksLeftOut: shape.checksLeftOut,
    roundings: roundingsOf(plan, (input.params ?? {}) as Record<string, Json>),
  }
}

function givenOf(target: Target, { plan, step, input, params }: FilterJob, { actor }: BulkRequest): BulkTask['given'] {
  const given = (input.params ?? {}) as Record<string, Json>
  const state = { entry: '', actor, params, given, loaded: new Map(), outcomes: new Map() }
  const binds = new StepBinds(target, plan, state)
  return (source, slot) => binds.valueOf(source, slot, step)
}
