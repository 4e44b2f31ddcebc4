import { codeInput, LedgermanProblem, writtenCode, type CodeInput } from '@ledgerman/contract'
import { emitCode, namedFinds } from '@ledgerman/core'
import { zipSync, strToU8 } from 'fflate'
import type { z } from 'zod'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

const ZIP = 'application/zip'

/** Data-access code out of the definitions. */
export function codeRoutes({ targets }: Services) {
  return [
    defineRoute<z.ZodType, CodeInput>({
      method: 'post',
      path: '/v1/targets/{target}/code',
      role: 'reader',
      summary: 'Write data-access code out of mappings and transactions: TypeScript for node-postgres.',
      body: { 'application/json': { schema: codeInput } },
      replies: {
        200: { description: 'The files; as application/zip one archive of them.', schema: writtenCode, alsoAs: [ZIP] },
      },
      problems: ['not-found', 'definition-invalid', 'count-required', 'media-type'],
      handle: async (call) => {
        const target = targets.get(call.params['target'] ?? '')
        const { mappings, transactions, book = false } = call.body
        const isAll = mappings === undefined && transactions === undefined
        const mappingNames = mappings ?? (isAll ? await published(targets.mappings, target.name) : [])
        const transactionNames = transactions ?? (isAll ? await published(targets.transactions, target.name) : [])
        const findMapping = (name: string) => targets.mapping(target, name)
        const chosen = await Promise.all([...new Set(mappingNames)].map(findMapping))
        const finds = await Promise.all(
          chosen.map(async (each) => [each, await namedFinds(target, each, findMapping)] as const),
        )
        const files = emitCode(
          chosen,
          (await Promise.all([...new Set(transactionNames)].map((name) => targets.plan(target, name)))).map((plan) => ({
            ...plan,
            name: plan.name ?? '',
          })),
          book,
          new Map(finds),
        )
        const type = call.request.accepts(['application/json', ZIP])
        if (type === false)
          throw new LedgermanProblem('media-type', `Code is given as application/json or ${ZIP}.`, { where: 'accept' })
        if (type === ZIP) return { status: 200, stream: { contentType: ZIP, chunks: one(zipped(files)) } }
        return { status: 200, body: { files } }
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

async function* one(bytes: Uint8Array): AsyncGenerator<Uint8Array> {
  yield await Promise.resolve(bytes)
}

/** The same files give the same archive. */
function zipped(files: { path: string; text: string }[]): Uint8Array {
  const entries = files.map(({ path, text }) => [path, [strToU8(text), { mtime: new Date(1980, 0, 2) }]] as const)
  return zipSync(Object.fromEntries(entries) as Parameters<typeof zipSync>[0])
}
