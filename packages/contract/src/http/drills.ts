import { z } from 'zod'
import { byName } from '../definition/by-name.js'
import { definitionName } from '../definition/mapping-definition.js'
import { chosenBy } from '../definition/chosen-by.js'
import { runLimits, stepDefinition, stepInput, transactionName } from '../definition/transaction-definition.js'
import { OUTCOMES } from '../receipt/receipt-kinds.js'
import { receipt } from '../receipt/receipt.js'
import { CODE_FORMS, DRILL_GUARDS, FAULT_KINDS, ISOLATIONS } from './drill-kinds.js'

const params = byName(z.string(), z.unknown()).optional()
const named = z.strictObject({
  transaction: transactionName,
  revision: z.int().min(0).max(1_000_000_000).optional(),
  params,
})
const saved = z.strictObject({
  mapping: definitionName,
  key: byName(definitionName, z.unknown()),
  values: byName(definitionName, z.unknown()).describe('What is set after the load.'),
})
const sent = {
  ...runLimits,
  params,
  types: byName(z.string(), z.string()).optional(),
}
const steps = z.strictObject({ ...sent, steps: z.array(stepInput).min(1).max(100) })

/** What is drilled: a transaction, steps that are sent along, or the plain load and save of one record. */
const drilledRun = chosenBy<z.output<typeof named> | z.output<typeof saved> | z.output<typeof steps>>((value) =>
  value !== null && typeof value === 'object' && 'steps' in value
    ? steps
    : value !== null && typeof value === 'object' && 'mapping' in value
      ? saved
      : named,
)
const drilledRunShape = z.union([
  named,
  saved,
  z.strictObject({ ...sent, steps: z.array(stepDefinition).min(1).max(100) }),
])

const code = z
  .enum(CODE_FORMS)
  .optional()
  .describe('Drills the code that is written for the transactions, in place of their definitions.')

const orAll = <T extends z.ZodType>(one: T) => z.array(z.union([one, z.literal('all')])).min(1)

function drillInputs<T extends z.ZodType>(run: T) {
  const fault = z.strictObject({
    kind: z.literal('fault'),
    run: run.optional().describe('What is drilled, where it is not a published transaction.'),
    transaction: transactionName.optional(),
    params,
    faults: orAll(z.enum(FAULT_KINDS)).default(['all']),
    code,
  })
  const interleaving = z.strictObject({
    kind: z.literal('interleaving'),
    runs: z.array(run).min(2).max(3),
    isolation: orAll(z.enum(ISOLATIONS)).optional().describe('Each run’s own where not said.'),
    guard: orAll(z.enum(DRILL_GUARDS)).default(['as defined']),
    atMost: z.int().min(1).max(100_000).default(1_000).describe('Schedules at each level and guard; more are sampled.'),
    seed: z.int().min(0).max(4_294_967_295).optional().describe('Of the sample.'),
    code,
  })
  const race = z.strictObject({
    kind: z.literal('race'),
    runs: z.array(run).min(1).max(10).describe('Taken in turn.'),
    times: z.int().min(1).max(100_000).default(500),
    atOnce: z.int().min(1).max(100).default(16),
    keep: z
      .array(z.string().min(1))
      .default([])
      .describe(
        'Expressions over aggregates: a number that has to be unchanged, or a condition that has to stay true.',
      ),
    isolation: z.enum(ISOLATIONS).optional(),
    code,
  })
  return { fault, interleaving, race }
}

const precise = drillInputs(drilledRun)
const shapes = drillInputs(drilledRunShape)

/** A drill, by its kind. */
export const drillInput = z.discriminatedUnion('kind', [precise.fault, precise.interleaving, precise.race])
/** The same as a JSON Schema can say it. */
export const drillInputShape = z
  .discriminatedUnion('kind', [shapes.fault, shapes.interleaving, shapes.race])
  .meta({ id: 'DrillInput' })

const row = z.record(z.string(), z.unknown())
/** A row that is not as it was: by column name, only the columns that differ. `before` is null where it was not there. */
export const rowDifference = z.strictObject({
  table: z.string(),
  key: row,
  before: row.nullable(),
  after: row.nullable(),
})

export const scratchInfo = z.strictObject({
  tables: z.array(z.strictObject({ table: z.string(), rows: z.int() })).describe('What was copied from the target.'),
  notes: z.array(z.string()).describe('What could not be restored, and what is replaced.'),
  builtMs: z.number(),
})

const NOT_RUN = z.string().nullable().describe('Why nothing was tried; it has not passed then. Null where it was.')

const faultResult = z.strictObject({
  fault: z.string(),
  outcome: z.string().describe('What the caller was told: committed, or the code of the refusal.'),
  differing: z.array(rowDifference).describe('Rows that differ from before, but for what the fault itself did.'),
  staged: z.boolean().describe('Whether it could be brought about; one that could not shows nothing.'),
  agrees: z.boolean().describe('Whether what the caller was told, the rows and the book agree.'),
  message: z.string(),
  durationMs: z.number(),
})

export const faultDrill = z.strictObject({
  kind: z.literal('fault'),
  passed: z.boolean(),
  of: z.enum(['definition', 'code']).describe('What was drilled.'),
  notRun: NOT_RUN,
  undisturbed: faultResult,
  results: z.array(faultResult),
  scratch: scratchInfo,
  durationMs: z.number(),
})

const seenRow = z.strictObject({ mapping: z.string(), key: row, values: row })
const scheduleStep = z.strictObject({
  run: z.string().describe('A, B or C.'),
  step: z.union([z.int(), z.literal('commit')]),
  kind: z.string(),
  message: z.string(),
  action: z.enum(['ran', 'waits', 'went on', 'refused']),
  reads: z.array(seenRow),
  writes: z.array(z.strictObject({ mapping: z.string(), key: row, before: row.nullable(), after: row.nullable() })),
})

const anomaly = z.strictObject({
  name: z.string().describe('The standard name where it has one, else "not serializable".'),
  schedules: z.int().describe('In how many of the schedules that were tried.'),
  schedule: z.array(scheduleStep).describe('The first of them, as it went.'),
  message: z.string(),
  final: z.array(rowDifference),
})

export const interleavingDrill = z.strictObject({
  kind: z.literal('interleaving'),
  passed: z.boolean(),
  of: z.enum(['definition', 'code']).describe('What was drilled.'),
  notRun: NOT_RUN,
  notCompared: z
    .array(z.string())
    .describe('Columns that chance decides in each trial, and so are left out of what is compared.'),
  runs: z.array(z.strictObject({ run: z.string(), what: z.string(), statements: z.int() })),
  results: z.array(
    z.strictObject({
      isolation: z.string(),
      guard: z.string(),
      tried: z.int().describe('Schedules.'),
      committed: z.int().describe('Schedules in which every run was committed.'),
      refused: z.int().describe('Schedules in which at least one run was refused.'),
      refusals: z.record(z.string(), z.int()).describe('Refused runs by code.'),
      anomalies: z.array(anomaly),
    }),
  ),
  possible: z.int().describe('How many schedules there are.'),
  sampled: z.boolean(),
  seed: z.int().nullable(),
  scratch: scratchInfo,
  durationMs: z.number(),
})

export const raceDrill = z.strictObject({
  kind: z.literal('race'),
  passed: z.boolean(),
  of: z.enum(['definition', 'code']).describe('What was drilled.'),
  notRun: NOT_RUN,
  times: z.int(),
  atOnce: z.int(),
  committed: z.int(),
  refused: z.int(),
  refusals: z.record(z.string(), z.int()),
  retries: z.int(),
  latencyMs: z.strictObject({ median: z.number(), p95: z.number(), most: z.number() }),
  perSecond: z.number(),
  kept: z.array(
    z.strictObject({
      expression: z.string(),
      before: z.string().nullable(),
      after: z.string().nullable(),
      held: z.boolean(),
      checks: z.int().describe('How often it was checked while the runs went on.'),
      message: z.string(),
    }),
  ),
  scratch: scratchInfo,
  durationMs: z.number(),
})

export const drillReport = z
  .discriminatedUnion('kind', [faultDrill, interleavingDrill, raceDrill])
  .meta({ id: 'Drill' })

/** A run that is gone through step by step. */
export const walkInput = z.strictObject({ run: drilledRun })
export const walkInputShape = z.strictObject({ run: drilledRunShape }).meta({ id: 'WalkInput' })

export const walk = z
  .strictObject({
    id: z.string(),
    state: z.enum(['going', 'done', 'refused']),
    outcome: z.enum(OUTCOMES).nullable(),
    steps: z.array(z.strictObject({ no: z.int(), kind: z.string(), what: z.string() })),
    at: z.int().describe('How many steps were run.'),
    receipt: receipt.shape.steps,
    pending: z.array(rowDifference).describe('What the run has changed so far, as only it sees it.'),
    locks: z.array(
      z.strictObject({ lock: z.string(), table: z.string().nullable(), mode: z.string(), rows: z.array(row) }),
    ),
    problem: z.record(z.string(), z.unknown()).nullable(),
    scratch: scratchInfo,
  })
  .meta({ id: 'Walk' })

/** A drill as a caller sends it: what is left out has its default. */
export type DrillRequest = z.input<typeof drillInput>
export type DrillInput = z.output<typeof drillInput>
export type FaultInput = z.output<typeof precise.fault>
export type InterleavingInput = z.output<typeof precise.interleaving>
export type RaceInput = z.output<typeof precise.race>
export type DrilledRun = z.output<typeof drilledRun>
export type DrillReport = z.output<typeof drillReport>
export type FaultDrill = z.output<typeof faultDrill>
export type FaultResult = z.output<typeof faultResult>
export type InterleavingDrill = z.output<typeof interleavingDrill>
export type RaceDrill = z.output<typeof raceDrill>
export type RowDifference = z.output<typeof rowDifference>
export type ScheduleStep = z.output<typeof scheduleStep>
export type Anomaly = z.output<typeof anomaly>
export type ScratchInfo = z.output<typeof scratchInfo>
export type FaultKind = (typeof FAULT_KINDS)[number]
export type DrillGuard = (typeof DRILL_GUARDS)[number]
export type Walk = z.output<typeof walk>

/** How far a long call is. */
export interface Progress {
  done: number
  total: number
  what: string
}
