import { z } from 'zod'
import { mappingDefinition } from '../definition/mapping-definition.js'

/** What a form or a command line needs to know of a property to read and write its values. */
export const propertyInfo = z.strictObject({
  name: z.string(),
  column: z.string(),
  type: z.string().describe('As PostgreSQL writes it.'),
  kind: z.string().describe('The kind of value, see docs/values.md.'),
  choices: z.array(z.string()).nullable().describe('The labels of an enum, in their order.'),
  element: z.string().nullable().describe("The kind of an array's elements."),
  nullable: z.boolean(),
  key: z.boolean(),
  writable: z.boolean(),
  addable: z.boolean().describe('Whether it can be set in a new record.'),
  required: z.boolean().describe('Whether a new record has to name it: no null, and no default.'),
  lockedBecause: z.string().nullable().describe('Why it cannot be set, where it cannot.'),
  sensitive: z.boolean(),
})

export const mappingSummary = z
  .strictObject({
    name: z.string(),
    table: z.string(),
    key: z.array(z.string()),
    guard: z.string(),
    revision: z.int(),
    publishedAt: z.string(),
    publishedBy: z.string(),
  })
  .meta({ id: 'MappingSummary' })

export const mappingInfo = mappingSummary
  .extend({
    definition: mappingDefinition,
    source: z.string().describe('The text that was published.'),
    properties: z.array(propertyInfo).nullable().describe('Null where the definition no longer fits the table.'),
    drift: z.string().nullable().describe('What no longer fits the table, where something does not.'),
  })
  .meta({ id: 'Mapping' })

export const mappingList = z.strictObject({ mappings: z.array(mappingSummary) })
export const derivedMapping = z
  .strictObject({
    definition: mappingDefinition,
    source: z.string().describe('The same as YAML.'),
    notes: z.array(z.string()).describe('What a person should look at before publishing it.'),
  })
  .meta({ id: 'DerivedMapping' })

export type PropertyInfo = z.output<typeof propertyInfo>
export type MappingSummary = z.output<typeof mappingSummary>
export type MappingInfo = z.output<typeof mappingInfo>
export type DerivedMapping = z.output<typeof derivedMapping>
