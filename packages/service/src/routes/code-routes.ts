import { codeInput, codeProof, LedgermanProblem, writtenCode, type CodeInput } from '@ledgerman/contract'
import { asItIs, emitCode, namedFinds, proveCode, type Target } from '@ledgerman/core'
import { zipSync, strToU8 } from 'fflate'
import type { z } from 'zod'
import { proofTools } from '../code/load-code.js'
import { drillDefinitions, drillSource } from '../drills/drill-source.js'
import { oneChunk } from '../http/one-chunk.js'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

const ZIP = 'application/zip'
/** How long a proof may take, in milliseconds. */
const LONGEST_PROOF_MS = 5 * 60_000

/** Data-access code out of the definitions. */
export function codeRoutes(services: Services) {
  const { targets } = services

  /** The code for what was asked for, and what it is made of. */
  async function written(target: Target, { mappings, transactions, book = false }: CodeInput) {
    const isAll = mappings === undefined && transactions === undefined
    const mappingNames = mappings ?? (isAll ? await published(targets.mappings, target.name) : [])
    const transactionNames = transactions ?? (isAll ? await published(targets.transactions, target.name) : [])
    const findMapping = (name: string) => targets.mapping(target, name)
    const chosen = await Promise.all([...new Set(mappingNames)].map(findMapping))
    const finds = new Map(
      await Promise.all(chosen.map(async (each) => [each, await namedFinds(target, each, findMapping)] as const)),
    )
    const plans = await Promise.all(
      [...new Set(transactionNames)].map(async (name) => ({ ...(await targets.plan(target, name)), name })),
    )
    return { files: emitCode(chosen, plans, book, finds), subjects: { mappings: chosen, plans, finds } }
  }

  return [
    defineRoute<z.ZodType, CodeInput>({
      method: 'post',
      path: '/v1/targets/{target}/code',
      role: 'author',
      summary: 'Write data-access code out of mappings and transactions: TypeScript for node-postgres.',
      body: { 'application/json': { schema: codeInput } },
      replies: {
        200: { description: 'The files; as application/zip one archive of them.', schema: writtenCode, alsoAs: [ZIP] },
      },
      problems: ['not-found', 'definition-invalid', 'count-required', 'media-type'],
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const { files } = await asItIs(target, () => written(target, call.body))
        const type = call.request.accepts(['application/json', ZIP])
        if (type === false)
          throw new LedgermanProblem('media-type', `Code is given as application/json or ${ZIP}.`, { where: 'accept' })
        if (type === ZIP) return { status: 200, stream: { contentType: ZIP, chunks: oneChunk(zipped(files)) } }
        return { status: 200, body: { files } }
      },
    }),
    defineRoute<z.ZodType, CodeInput>({
      method: 'post',
      path: '/v1/targets/{target}/code/proof',
      role: 'author',
      summary:
        'Run examples and records through the service and through the written code, in a scratch database, and compare.',
      canFollow: true,
      longestMs: LONGEST_PROOF_MS,
      body: { 'application/json': { schema: codeInput } },
      replies: {
        200: { description: 'What was done both ways, and whether it came out the same.', schema: codeProof },
      },
      problems: ['not-found', 'definition-invalid', 'count-required', 'scratch-unavailable', 'cancelled', 'media-type'],
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const { files, subjects } = await asItIs(target, () => written(target, call.body))
        const onProgress = (done: number, total: number, what: string) => call.onProgress?.({ done, total, what })
        const body = await proveCode(
          await drillSource(services, target),
          subjects,
          files,
          drillDefinitions(services, target, call.caller.actor),
          proofTools,
          { signal: call.gone(), onProgress },
        )
        return { status: 200, body }
      },
    }),
  ]
}

async function published(
  store: { list(target: string): Promise<{ name: string }[]> },
  target: string,
): Promise<string[]> {
  return (await store.list(target)).map(({ name }) => name)
}

/** The same files give the same archive. */
function zipped(files: { path: string; text: string }[]): Uint8Array {
  const entries = files.map(({ path, text }) => [path, [strToU8(text), { mtime: new Date(1980, 0, 2) }]] as const)
  return zipSync(Object.fromEntries(entries) as Parameters<typeof zipSync>[0])
}
