import { z } from 'zod'

export const REVIEW_LEVELS = ['error', 'warning', 'note'] as const

/** What a review finds; docs/review-rules.md has a section for each. */
export const REVIEW_RULES = [
  'does-not-parse',
  'unknown-name',
  'every-row',
  'not-one-row',
  'value-in-text',
  'parameter-count',
  'null-comparison',
  'key-assigned',
  'type-mismatch',
  'no-index',
  'unguarded-save',
  'count-ignored',
  'never-committed',
  'apart',
  'not-awaited',
  'unbounded-wait',
  'one-by-one',
  'session-kept',
  'transaction-inside',
] as const

export const reviewInput = z
  .strictObject({
    files: z
      .array(z.strictObject({ path: z.string().min(1).max(1000), text: z.string() }))
      .min(1)
      .max(2000),
    placeholders: z
      .enum(['dollar', 'question', 'colon', 'percent', 'percent-named', 'at'])
      .optional()
      .describe('How placeholders are written, where the text does not say.'),
  })
  .meta({ id: 'ReviewInput' })

export const reviewFinding = z.strictObject({
  rule: z.enum(REVIEW_RULES),
  level: z.enum(REVIEW_LEVELS),
  path: z.string(),
  line: z.int().describe('From 1.'),
  column: z.int().describe('From 1.'),
  endLine: z.int(),
  endColumn: z.int(),
  message: z.string(),
  why: z.string().describe('Why it matters, in one sentence.'),
  instead: z.string().nullable().describe('The statement or call put right, where there is one way.'),
  statement: z.int().nullable().describe('Which of the statements, from 0.'),
  accepted: z.string().optional().describe('Why it was accepted, in a comment beside it.'),
})

export const reviewedStatement = z.strictObject({
  path: z.string(),
  line: z.int(),
  column: z.int(),
  language: z.string(),
  function: z.string().nullable().describe('The function that it stands in.'),
  text: z.string().describe("With PostgreSQL's placeholders; a value that was pasted in is one, too."),
  kind: z.string().describe('select, insert, update, delete, merge, or what else it is.'),
  tables: z.array(z.string()),
  key: z.array(z.string()).nullable().describe('The unique key that its condition covers.'),
  params: z.array(z.strictObject({ name: z.string(), type: z.string().nullable() })),
  rows: z.enum(['one', 'many', 'every']).nullable().describe('How many rows its condition is made for.'),
  index: z.enum(['serves', 'not used']).nullable(),
})

export const review = z
  .strictObject({
    statements: z.array(reviewedStatement),
    findings: z.array(reviewFinding),
    summary: z.strictObject({
      files: z.int(),
      statements: z.int(),
      error: z.int(),
      warning: z.int(),
      note: z.int(),
      accepted: z.int(),
    }),
  })
  .meta({ id: 'Review' })

export const reviewCatalogue = z
  .strictObject({
    tables: z.array(
      z.strictObject({
        schema: z.string(),
        name: z.string(),
        columns: z.array(
          z.strictObject({
            name: z.string(),
            type: z.string(),
            nullable: z.boolean(),
            identity: z.enum(['always', 'by default']).nullable(),
            generated: z.boolean(),
          }),
        ),
        keys: z.array(z.array(z.string())),
        primaryKey: z.array(z.string()).nullable(),
        guard: z.string().nullable(),
        rows: z.number().nullable(),
      }),
    ),
    searchPath: z.array(z.string()),
  })
  .meta({ id: 'ReviewCatalogue' })

/** The transactions that functions became, each as its file would say it. */
export const adoption = z
  .strictObject({
    adopted: z.array(
      z.strictObject({
        from: z.string().describe('The path, and the function or the line.'),
        name: z.string(),
        source: z.string().describe('The definition in YAML.'),
        problem: z.string().nullable().describe('What does not fit; null where it can be published.'),
      }),
    ),
  })
  .meta({ id: 'Adoption' })

export type Adoption = z.output<typeof adoption>
export type ReviewInput = z.output<typeof reviewInput>
export type ReviewFinding = z.output<typeof reviewFinding>
export type ReviewedStatement = z.output<typeof reviewedStatement>
export type Review = z.output<typeof review>
export type ReviewRule = (typeof REVIEW_RULES)[number]
export type ReviewLevel = (typeof REVIEW_LEVELS)[number]
