import { z } from 'zod'
import { byName } from './by-name.js'
import { paramDefinition } from './param-definition.js'

/** Names of mappings, properties, links, transactions: a letter or underscore, then letters, digits, underscores. */
export const definitionName = z
  .string()
  .max(100)
  .regex(/^[\p{L}_][\p{L}\p{N}_]*$/u, 'expected a letter or underscore, then letters, digits or underscores')
  .refine((name) => name !== '__proto__', 'expected another name: not every program that reads JSON keeps this one')

const propertyDefinition = z.strictObject({
  column: z.string().min(1).describe('The column that holds it.'),
  fixed: z.boolean().optional().describe('Never set after the row exists.'),
  type: z
    .string()
    .min(1)
    .max(2000)
    .optional()
    .describe(
      "Of a json property: its type in written code, as TypeScript writes it: `{ binning: number; readout?: 'slow' | 'fast' }`.",
    ),
  sensitive: z.boolean().optional().describe('Never in logs, book or problems in plain text.'),
})

const guardKinds = z.discriminatedUnion(
  'by',
  [
    z.strictObject({
      by: z.literal('version'),
      property: definitionName.describe('An integer property.'),
      bumpedBy: z.enum(['ledgerman', 'database']).optional().describe('Who adds 1. Default ledgerman.'),
    }),
    z.strictObject({ by: z.literal('rowStamp') }),
    z.strictObject({ by: z.literal('values'), of: z.array(definitionName).min(1).optional() }),
    z.strictObject({ by: z.literal('none') }),
  ],
  {
    error: 'expected { by: version, property: … }, { by: rowStamp }, { by: values } or { by: none }',
  },
)

/** The word that `rowStamp` had before is read as that for one version more. */
const guardDefinition = z.preprocess(
  (guard) =>
    guard !== null && typeof guard === 'object' && (guard as { by?: unknown }).by === 'stamp'
      ? { ...guard, by: 'rowStamp' }
      : guard,
  guardKinds,
)

const propertyPairs = z.record(definitionName, definitionName).refine((pairs) => Object.keys(pairs).length > 0, {
  message: 'expected at least one pair of properties',
})

const linkDefinition = z.union([
  z.strictObject({ mapping: definitionName, on: propertyPairs }).describe('To one record.'),
  z.strictObject({ mapping: definitionName, many: propertyPairs }).describe('To many records.'),
])

const ruleDefinition = z.strictObject({
  that: z.string().min(1).describe('An expression that has to be true.'),
  otherwise: z.string().min(1).describe('What is said when it is not.'),
})

const findDefinition = z.strictObject({
  params: byName(definitionName, paramDefinition.omit({ rule: true })).optional(),
  where: z.string().min(1).max(10_000).describe('An expression; parameters are named as :name.'),
  order: z.string().max(1000).optional().describe('Such as `hoursLeft desc, code`; in key order where not said.'),
})

/** How one table's rows become objects: the form of a mapping file. */
export const mappingDefinition = z
  .strictObject({
    mapping: definitionName,
    table: z.string().min(1).describe('schema.table; a part that holds a dot or a quote stands in double quotes.'),
    key: z.array(definitionName).describe('Properties whose columns are unique and not null together.'),
    guard: guardDefinition,
    properties: byName(definitionName, propertyDefinition),
    links: byName(definitionName, linkDefinition).optional(),
    rules: z.array(ruleDefinition).optional(),
    finds: byName(definitionName, findDefinition).optional().describe('Finds by name, for callers and written code.'),
  })
  .meta({ id: 'MappingDefinition' })

export type MappingDefinition = z.output<typeof mappingDefinition>
export type GuardDefinition = MappingDefinition['guard']
export type LinkDefinition = NonNullable<MappingDefinition['links']>[string]
export type FindDefinition = NonNullable<MappingDefinition['finds']>[string]
