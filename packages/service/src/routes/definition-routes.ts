import { isDeepStrictEqual } from 'node:util'
import {
  definitionsInput,
  definitionsPublished,
  definitionsQuery,
  mappingDefinition,
  parseJson,
  printJson,
  transactionDefinitionShape,
  type DefinitionsInput,
  type DefinitionsPublished,
} from '@ledgerman/contract'
import type { Target } from '@ledgerman/core'
import { z } from 'zod'
import { checkDefinitions } from '../definitions/check-definitions.js'
import { definitionsRefused, readDefinitions, type ReadDefinition } from '../definitions/read-definition.js'
import { publishChecked } from '../definitions/publish-checked.js'
import { assertUnused, type Named } from '../definitions/withdraw.js'
import { AS_IT_STANDS, defineRoute, type Call } from '../http/route.js'
import { YAML } from '../http/yaml-answer.js'
import type { Services } from './services.js'

export function definitionRoutes({ home, targets }: Services) {
  return [
    defineRoute<typeof definitionsQuery, DefinitionsInput | string>({
      method: 'post',
      path: '/v1/targets/{target}/definitions',
      role: 'author',
      summary: 'Publish and withdraw mappings and transactions at once, all or none; or only check them.',
      query: definitionsQuery,
      body: {
        'application/json': { schema: definitionsInput },
        [YAML]: { schema: z.string(), parse: AS_IT_STANDS },
      },
      replies: { 200: { description: 'What became of each, or would.', schema: definitionsPublished } },
      problems: [
        'definition-invalid',
        'definition-in-use',
        'record-changed',
        'media-type',
        'too-large',
        'outcome-unknown',
      ],
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const isCheck = call.query.check ?? false
        const { definitions: input, withdraw: withdrawn = [] } = inputOf(call)
        if (isCheck && input.length + withdrawn.length === 0) return { status: 200, body: await checkPublished(target) }
        const reads = input.map(({ file, source, revision }) => ({
          ...readDefinitions(source, file ?? null),
          expected: revision === 0 ? ('none' as const) : revision,
        }))
        const definitions = reads
          .flatMap((read) => read.definitions.map((each) => ({ ...each, expected: read.expected })))
          .sort(byKindAndName)
        const unread = reads.flatMap((read) => read.findings)
        const assertFits = async () => {
          const findings = [...unread, ...(await checkDefinitions(targets, target, definitions, { withdrawn }))]
          if (findings.length > 0) throw definitionsRefused(findings)
          await assertUnused(targets, target.name, withdrawn, definitions)
          return Promise.all(withdrawn.map((each) => lastOf(target, each)))
        }
        if (isCheck) {
          const leaving = await assertFits()
          return {
            status: 200,
            body: { definitions: [...(await states(target, definitions)), ...leaving], findings: [] },
          }
        }
        const changes = [
          ...definitions,
          ...withdrawn.map(({ kind, name, revision }) => ({
            kind,
            name,
            definition: null,
            file: null,
            expected: revision,
          })),
        ].sort(byKindAndName)
        let leaving: Awaited<ReturnType<typeof assertFits>> = []
        const published = await publishChecked(home, target.name, call.caller.actor, async () => {
          leaving = await assertFits()
          return changes
        })
        for (const { kind, name } of changes) targets[`${kind}s`].forget(target.name, name)
        return {
          status: 200,
          body: {
            definitions: [
              ...published.flatMap(({ revision: { kind, name, revision }, isNew }, at) => {
                const { definition, file } = changes[at] as (typeof changes)[number]
                const state = !isNew ? 'same' : revision === 1 ? 'new' : 'changed'
                return definition === null ? [] : [{ kind, name, revision, state, file } as const]
              }),
              ...leaving,
            ],
            findings: [],
          },
        }
      },
    }),
    ...(['mapping', 'transaction'] as const).map((kind) =>
      defineRoute({
        method: 'get',
        path: `/v1/schemas/${kind}`,
        role: null,
        summary: `JSON Schema of a ${kind} definition, for editors.`,
        replies: { 200: { description: 'JSON Schema, draft 2020-12.', schema: z.looseObject({}) } },
        handle: () =>
          Promise.resolve({ status: 200, body: SCHEMAS[kind], headers: { 'access-control-allow-origin': '*' } }),
      }),
    ),
  ]

  /** Mappings first, since transactions name them; in one order always, so that two callers take turns. */
  function byKindAndName(one: Named, other: Named): number {
    return one.kind.localeCompare(other.kind) || one.name.localeCompare(other.name)
  }

  /** What is to be withdrawn, at its last revision. @throws LedgermanProblem not-found */
  async function lastOf(target: Target, { kind, name }: Named) {
    const latest = await targets[`${kind}s`].get(target.name, name)
    return { kind, name, revision: latest.revision, state: 'withdrawn' as const, file: null }
  }

  async function states(target: Target, definitions: readonly ReadDefinition[]) {
    return Promise.all(
      definitions.map(
        async ({ kind, name, definition, file }): Promise<DefinitionsPublished['definitions'][number]> => {
          const latest = await targets[`${kind}s`].find(target.name, name)
          const isSame =
            latest !== undefined &&
            isDeepStrictEqual(parseJson(printJson(definition)), parseJson(printJson(latest.definition)))
          return {
            kind,
            name,
            revision: latest?.revision ?? 0,
            state: !latest ? 'new' : isSame ? 'same' : 'changed',
            file,
          }
        },
      ),
    )
  }

  /** Checks everything that is published against the target as it is now. */
  async function checkPublished(target: Target): Promise<DefinitionsPublished> {
    const lists = await Promise.all([targets.mappings.list(target.name), targets.transactions.list(target.name)])
    const published = lists.flat()
    const reads = published.flatMap(({ source, name, kind }) => {
      const { definitions } = readDefinitions(source, null)
      return definitions.filter((each) => each.name === name && each.kind === kind)
    })
    return {
      definitions: published.map(({ kind, name, revision }) => ({ kind, name, revision, state: 'same', file: null })),
      findings: await checkDefinitions(targets, target, reads),
    }
  }
}

const SCHEMAS = { mapping: toSchema(mappingDefinition), transaction: toSchema(transactionDefinitionShape) }

/** The schema itself at the root, where editors look for what can be completed. */
function toSchema(schema: z.ZodType): Record<string, unknown> {
  const { $ref, $defs = {}, ...rest } = z.toJSONSchema(schema, { io: 'input', unrepresentable: 'any' })
  const { [$ref?.split('/').at(-1) ?? '']: root = {}, ...others } = $defs
  return { ...rest, ...root, $defs: others }
}

function inputOf({ body, mediaType }: Call<unknown, DefinitionsInput | string>): DefinitionsInput {
  return mediaType === YAML ? { definitions: [{ source: body as string }] } : (body as DefinitionsInput)
}
