import { z } from 'zod'

export const DEFINITION_KINDS = ['mapping', 'transaction'] as const
export type DefinitionKind = (typeof DEFINITION_KINDS)[number]

/** Definitions to publish at once: each as the text of its file. */
export const definitionsInput = z
  .strictObject({
    definitions: z
      .array(
        z.strictObject({
          file: z.string().max(1000).optional().describe('What refusals call it.'),
          source: z.string().max(500_000).describe('YAML or JSON.'),
          revision: z
            .int()
            .min(0)
            .optional()
            .describe('The latest revision that is known, 0 for none: refused where somebody published since.'),
        }),
      )
      .max(1000),
    withdraw: z
      .array(
        z.strictObject({
          kind: z.enum(DEFINITION_KINDS),
          name: z.string().max(1000),
          revision: z
            .int()
            .min(1)
            .optional()
            .describe('The latest revision that is known: refused where somebody published since.'),
        }),
      )
      .max(1000)
      .optional()
      .describe('What is withdrawn at once. Revisions stay readable, and so do entries made with them.'),
  })
  .meta({ id: 'DefinitionsInput' })

export const definitionsQuery = z.strictObject({
  check: z
    .enum(['true', 'false'])
    .transform((text) => text === 'true')
    .optional()
    .describe('Only check: nothing is published. Without definitions, those that are published are checked.'),
})

const finding = z.strictObject({
  file: z.string().nullable(),
  line: z.int().nullable(),
  column: z.int().nullable(),
  where: z.string(),
  message: z.string(),
  definition: z.string().optional().describe('Such as `mapping programme`.'),
  advice: z.string().optional().describe('What to do about it.'),
})

/** What became of each definition, or would. */
export const definitionsPublished = z
  .strictObject({
    definitions: z.array(
      z.strictObject({
        kind: z.enum(DEFINITION_KINDS),
        name: z.string(),
        revision: z.int().describe('The latest one; where only checked, that of before, and 0 where there is none.'),
        state: z.enum(['new', 'changed', 'same', 'withdrawn']),
        file: z.string().nullable(),
      }),
    ),
    findings: z.array(finding).describe('What does not fit; empty where something was published.'),
  })
  .meta({ id: 'DefinitionsPublished' })

export type DefinitionsInput = z.output<typeof definitionsInput>
export type DefinitionsPublished = z.output<typeof definitionsPublished>
export type Finding = z.output<typeof finding>
