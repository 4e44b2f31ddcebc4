import { z } from 'zod'
import { byName } from '../definition/by-name.js'
import { chosenBy } from '../definition/chosen-by.js'
import { runLimits, stepDefinition, stepInput, transactionName } from '../definition/transaction-definition.js'
import { lockHolder } from './waits.js'
import { RUN_MODES } from '../receipt/receipt-kinds.js'

const common = {
  mode: z.enum(RUN_MODES).describe('A rehearsal is always rolled back.'),
  params: byName(z.string(), z.unknown()).optional(),
  rehearsal: z.string().optional().describe("A rehearsal's token: commit exactly what it saw, or refuse."),
  note: z.string().max(2000).optional().describe('Kept with the entry.'),
  confirm: z.boolean().optional().describe('Read the written rows back by a second session.'),
}
const typed = byName(
  z.string(),
  z.union([z.string(), z.strictObject({ type: z.string(), nullable: z.boolean().optional() })]),
)

const named = z.strictObject({
  ...common,
  transaction: transactionName,
  revision: z.int().min(0).max(1_000_000_000).optional(),
})
const adHoc = {
  ...common,
  ...runLimits,
  types: typed
    .optional()
    .describe('The types of the parameters; what is not named takes the type of what it stands beside.'),
}

const unnamed = z.strictObject({ ...adHoc, steps: z.array(stepInput).min(1).max(1000) })

/** A run of a named transaction, or of steps that are sent with it. */
export const runInput = chosenBy<z.output<typeof named> | z.output<typeof unnamed>>((value) =>
  value !== null && typeof value === 'object' && 'steps' in value ? unnamed : named,
)

/** The same as a JSON Schema can say it. */
export const runInputShape = z
  .union([named, z.strictObject({ ...adHoc, steps: z.array(stepDefinition).min(1).max(1000) })])
  .meta({ id: 'RunInput' })

/** A run that was begun here: still going on, or over. */
export const runState = z
  .strictObject({
    id: z.string(),
    state: z.enum(['running', 'over']),
    mode: z.enum(RUN_MODES),
    actor: z.string(),
    transaction: z.string().nullable(),
    startedAt: z.string(),
    waitsFor: z.array(lockHolder).describe('Who holds the lock it waits for, where it waits for one.'),
    entry: z.string().nullable().describe('Where its entry stands, once it is over and left one.'),
  })
  .meta({ id: 'RunState' })

export type RunState = z.output<typeof runState>
export type RunInput = z.output<typeof runInput>
