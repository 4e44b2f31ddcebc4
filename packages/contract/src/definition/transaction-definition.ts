import { z } from 'zod'
import { firstNames } from '../problem/check-input.js'
import { byName } from './by-name.js'
import { findNearestName } from '../nearest-name.js'
import { chosenBy } from './chosen-by.js'
import { definitionName } from './mapping-definition.js'
import { paramDefinition } from './param-definition.js'

/** Names of transactions may hold hyphens: they are never named inside an expression. */
export const transactionName = z
  .string()
  .max(100)
  .regex(/^[\p{L}_][\p{L}\p{N}_-]*$/u, 'expected a letter or underscore, then letters, digits, underscores or hyphens')

/** The longest time limit and lock wait that may be asked for, in milliseconds. */
export const LONGEST_TIME_LIMIT_MS = 600_000

/** `250ms`, `2s`, `1m`; a bare number is milliseconds. */
const duration = z
  .union([z.int().min(0), z.string().regex(/^\d{1,9}(\.\d{1,9})?(ms|s|m)$/, 'expected a time such as 250ms, 2s or 1m')])
  .refine((value) => durationMs(value) <= LONGEST_TIME_LIMIT_MS, 'expected a time of at most 10m')

const expression = z.string().min(1).max(10_000)
const expressionOrNumber = z.union([expression, z.number(), z.boolean()])
const valuesByProperty = byName(definitionName, z.unknown())
const expressionsByProperty = byName(definitionName, expressionOrNumber)

export const expectation = z.union([
  z.enum(['one', 'none', 'some', 'any']),
  z.int().min(0),
  z
    .string()
    .regex(
      /^(\d+|\d+\.\.\d*|\.\.\d+)$/,
      'expected one, none, some, any, a number, or a range such as 2..40, 2.. or ..40',
    )
    .refine((range) => {
      const [least = '', most = ''] = range.split('..')
      return least === '' || most === '' || Number(least) <= Number(most)
    }, 'expected a range whose first number is not the larger one'),
])

const common = {
  when: expression.optional().describe('The step is skipped unless this is true.'),
}
const found = {
  ...common,
  key: expressionsByProperty.optional().describe('The key, a property each, as expressions.'),
  where: expression.optional(),
  as: definitionName.optional().describe('A name for what was loaded or changed.'),
  expect: expectation.optional().describe('How many rows it has to match.'),
}
const written = {
  ...found,
  guard: z.string().min(1).optional().describe('The guard of an earlier load, or any.'),
  loaded: valuesByProperty.optional().describe('Values the record has to have.'),
  everyRow: z.boolean().optional().describe('Needed where the condition leaves no row out.'),
}
const set = {
  values: valuesByProperty.optional().describe('Literal values.'),
  compute: expressionsByProperty
    .optional()
    .describe("Expressions over the row's own values, parameters and loaded records."),
}

export const loadStep = z.strictObject({
  load: definitionName,
  ...found,
  lock: z.enum(['none', 'share', 'change']).optional(),
  order: z
    .string()
    .min(1)
    .max(1_000)
    .optional()
    .describe('Which rows are the first, such as "priority, code desc"; by key where it is left out.'),
  limit: z
    .int()
    .min(1)
    .max(1_000)
    .optional()
    .describe('Takes so many rows at most, the first that fit; with lockWait: skip, the first that nobody holds.'),
})
export const changeStep = z.strictObject({ change: definitionName, ...written, ...set })
export const replaceStep = z.strictObject({ replace: definitionName, ...written, ...set })
export const removeStep = z.strictObject({ remove: definitionName, ...written })
export const addStep = z.strictObject({
  add: definitionName,
  ...common,
  ...set,
  as: definitionName.optional(),
  onExisting: z
    .enum(['refuse', 'keep', 'change'])
    .optional()
    .describe('Where a record with this key is there already.'),
})
export const requireStep = z.strictObject({
  require: expression,
  otherwise: z
    .string()
    .min(1)
    .optional()
    .describe('What is said when it is not true; {giver.code} and {:hours} are filled in.'),
  ...common,
})
export const sqlStep = z.strictObject({
  sql: z.string().min(1).max(100_000).describe('One SELECT, INSERT, UPDATE, DELETE or MERGE, with :name parameters.'),
  ...common,
  as: definitionName.optional(),
  expect: expectation.optional(),
  changes: z.boolean().optional().describe('Needed where it writes.'),
})

const STEP_SCHEMAS = {
  load: loadStep,
  change: changeStep,
  replace: replaceStep,
  add: addStep,
  remove: removeStep,
  require: requireStep,
  sql: sqlStep,
}
const STEP_WORDS = Object.keys(STEP_SCHEMAS) as (keyof typeof STEP_SCHEMAS)[]

/** A step; which kind it is says the word it begins with. Issues are those of that kind alone. */
export const stepDefinition = z
  .union([loadStep, changeStep, replaceStep, addStep, removeStep, requireStep, sqlStep])
  .meta({ id: 'StepDefinition' })

/** Checks a step by the schema of its kind. */
const preciseStep = chosenBy<z.output<typeof stepDefinition>>((value) => {
  const kinds =
    value !== null && typeof value === 'object' ? STEP_WORDS.filter((word) => Object.hasOwn(value, word)) : []
  const [kind] = kinds
  if (kind !== undefined && kinds.length === 1) return STEP_SCHEMAS[kind]
  if (kinds.length > 1) return `expected a step of one kind, got ${kinds.join(' and ')}: write a step for each`
  if (Array.isArray(value)) return 'expected a step, got a list'
  const given = value !== null && typeof value === 'object' ? Object.keys(value) : []
  const hint = given.slice(0, MOST_LIKE).flatMap((word) => {
    const meant = Object.hasOwn(MEANT, word.toLowerCase())
      ? MEANT[word.toLowerCase()]
      : findNearestName(word, STEP_WORDS)
    return meant === undefined ? [] : [`; ${word} is written ${meant}`]
  })[0]
  return `expected a step with one of ${STEP_WORDS.join(', ')}, got ${given.length > 0 ? firstNames(given) : 'none of them'}${hint ?? ''}`
})

/** How many of a step's members may be meant as the word it begins with. */
const MOST_LIKE = 20

/** What those call a step who know it from elsewhere. */
const MEANT: Readonly<Record<string, string>> = {
  update: 'change',
  set: 'change',
  insert: 'add',
  create: 'add',
  upsert: 'add with onExisting: change',
  delete: 'remove',
  select: 'load',
  get: 'load',
  find: 'load',
  check: 'require',
  assert: 'require',
}

const runLimits = {
  isolation: z.enum(['read committed', 'repeatable read', 'serializable']).optional(),
  lockWait: z
    .union([duration, z.literal('skip')])
    .optional()
    .describe('How long to wait for a lock; skip leaves locked rows out.'),
  timeLimit: duration.optional().describe('How long the whole may take.'),
  retry: z.int().min(0).max(10).optional().describe('On serialization failure or deadlock only.'),
}

const shape = {
  transaction: transactionName,
  summary: z.string().optional(),
  params: byName(definitionName, paramDefinition).optional(),
  examples: z.array(valuesByProperty).optional().describe('Used by forms, checks and drills.'),
  ...runLimits,
}

/** A named, parameterized list of steps run under one BEGIN … COMMIT: the form of a transaction file. */
export const transactionDefinition = z
  .strictObject({ ...shape, steps: z.array(preciseStep).min(1).max(100) })
  .meta({ id: 'TransactionDefinition' })

/** The same as a JSON Schema can say it. */
export const transactionDefinitionShape = z
  .strictObject({ ...shape, steps: z.array(stepDefinition).min(1).max(100) })
  .meta({ id: 'TransactionDefinition' })

export { preciseStep as stepInput, runLimits, paramDefinition }

export type TransactionDefinition = z.output<typeof transactionDefinition>
export type StepDefinition = z.output<typeof stepDefinition>
export type LoadStep = z.output<typeof loadStep>
export type ChangeStep = z.output<typeof changeStep>
export type ReplaceStep = z.output<typeof replaceStep>
export type AddStep = z.output<typeof addStep>
export type RemoveStep = z.output<typeof removeStep>
export type RequireStep = z.output<typeof requireStep>
export type SqlStep = z.output<typeof sqlStep>
export type Expectation = z.output<typeof expectation>
export type Isolation = NonNullable<TransactionDefinition['isolation']>

/** Milliseconds of a duration as a definition writes it. */
export function durationMs(value: string | number): number {
  if (typeof value === 'number') return value
  const [, amount = '0', unit = 'ms'] = /^([\d.]+)(ms|s|m)$/.exec(value) ?? []
  return Math.round(Number(amount) * { ms: 1, s: 1_000, m: 60_000 }[unit as 'ms' | 's' | 'm'])
}
