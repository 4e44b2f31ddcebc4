import { z } from 'zod'

const columnInfo = z.strictObject({
  name: z.string(),
  type: z.string(),
  nullable: z.boolean(),
  default: z.string().nullable(),
  identity: z.enum(['always', 'by default']).nullable(),
  generated: z.boolean(),
})

const foreignKeyInfo = z.strictObject({
  name: z.string(),
  columns: z.array(z.string()),
  table: z.string().describe('The table at the other end.'),
  otherColumns: z.array(z.string()),
})

export const tableSummary = z
  .strictObject({
    schema: z.string(),
    name: z.string(),
    kind: z.string(),
    columns: z.int(),
    key: z.array(z.string()).nullable().describe('The columns records are found by; null where there is no key.'),
    approximateRows: z.number().nullable().describe('As PostgreSQL last counted them (ANALYZE, VACUUM).'),
    approximateBytes: z
      .number()
      .nullable()
      .describe('Of the rows, without indexes and what is stored out of line; as last counted.'),
    references: z.array(z.strictObject({ columns: z.array(z.string()), table: z.string() })),
    mappings: z.array(z.string()).describe('The mappings of this table.'),
    cannotChange: z.string().nullable().describe('Why its records cannot be changed by key, where they cannot.'),
  })
  .meta({ id: 'TableSummary' })

export const tableInfo = z
  .strictObject({
    schema: z.string(),
    name: z.string(),
    kind: z.string(),
    columns: z.array(columnInfo),
    keys: z.array(z.strictObject({ name: z.string(), primary: z.boolean(), columns: z.array(z.string()) })),
    checks: z.array(z.strictObject({ name: z.string(), definition: z.string() })),
    references: z.array(foreignKeyInfo),
    referencedBy: z.array(foreignKeyInfo),
    triggers: z
      .array(z.strictObject({ name: z.string(), when: z.enum(['before', 'after', 'instead of']) }))
      .describe('Row triggers that fire on UPDATE.'),
    rowSecurity: z.boolean(),
    approximateRows: z.number().nullable(),
    approximateBytes: z.number().nullable(),
  })
  .meta({ id: 'Table' })

export const tableList = z.strictObject({ tables: z.array(tableSummary) })

export type TableSummary = z.output<typeof tableSummary>
export type TableInfo = z.output<typeof tableInfo>
