import {
  bookSizes as sizesSchema,
  entryProof,
  LedgermanProblem,
  pruning,
  pruningInput,
  seal as sealSchema,
  sealKey,
  verification,
  verificationInput,
  type PruningInput,
  type VerificationInput,
} from '@ledgerman/contract'
import {
  bookSizes,
  isEntryId,
  lastSeal,
  noSuchEntry,
  proveEntry,
  pruneBook,
  sealBook,
  verifyBook,
} from '@ledgerman/core'
import type { z } from 'zod'
import { defineRoute } from '../http/route.js'
import type { Services } from './services.js'

/** How long reading the whole book may take, in milliseconds. */
const LONGEST_MS = 60 * 60_000
const LONGEST_SEAL_MS = 15 * 60_000

/** What makes a book one that can be trusted, and keeps it small. */
export function bookRoutes({ targets, signer }: Services) {
  const targetOf = (call: { params: Record<string, string> }) => targets.get(call.params['target'] ?? '')
  return [
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/book/seal',
      role: 'reader',
      summary: 'The last seal of the book: a signed head over its entries.',
      replies: { 200: { description: 'The seal.', schema: sealSchema } },
      problems: ['not-found', 'book-not-prepared'],
      handle: async (call) => {
        const target = targetOf(call)
        const seal = await lastSeal(target)
        if (!seal)
          throw new LedgermanProblem(
            'not-found',
            `The book of ${target.name} has no seal yet. Seal it: ledgerman book seal.`,
            { target: target.name },
          )
        return { status: 200, body: seal }
      },
    }),
    defineRoute({
      method: 'post',
      path: '/v1/targets/{target}/book/seal',
      role: 'writer',
      summary: 'Seal the book now: everything in it that no seal covers yet.',
      replies: { 200: { description: 'The last seal, made now where there was something new.', schema: sealSchema } },
      problems: ['book-not-prepared', 'book-altered', 'lock-timeout'],
      mayChange: true,
      longestMs: LONGEST_SEAL_MS,
      handle: async (call) => ({ status: 200, body: (await sealBook(targetOf(call), signer)).seal }),
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/book/key',
      role: 'reader',
      summary: 'The public key that seals are checked with.',
      replies: { 200: { description: 'The key.', schema: sealKey } },
      handle: (call) => {
        targetOf(call)
        const key = signer.publicKey.export({ type: 'spki', format: 'pem' }).toString()
        return Promise.resolve({ status: 200, body: { key } })
      },
    }),
    defineRoute<z.ZodType, VerificationInput>({
      method: 'post',
      path: '/v1/targets/{target}/book/verification',
      role: 'reader',
      summary: 'Compare the whole book with what was sealed, and name what was altered.',
      body: { 'application/json': { schema: verificationInput } },
      replies: { 200: { description: 'What was found.', schema: verification } },
      problems: ['book-not-prepared', 'cancelled', 'time-limit'],
      longestMs: LONGEST_MS,
      handle: async (call) => ({
        status: 200,
        body: await verifyBook(targetOf(call), signer.publicKey, call.body.seal, call.gone()),
      }),
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/entries/{entry}/proof',
      role: 'reader',
      summary: 'What shows, without the database, that an entry is under a seal.',
      replies: { 200: { description: 'The proof.', schema: entryProof } },
      problems: ['not-found', 'book-not-prepared', 'book-altered'],
      longestMs: LONGEST_SEAL_MS,
      handle: async (call) => {
        const target = targetOf(call)
        const id = (call.params['entry'] ?? '').toLowerCase()
        if (!isEntryId(id)) throw noSuchEntry(target, id)
        // An entry of a moment ago is put under a seal first.
        const { seal } = await sealBook(target, signer, { thorough: false })
        return { status: 200, body: await proveEntry(target, id, seal) }
      },
    }),
    defineRoute<z.ZodType, PruningInput>({
      method: 'post',
      path: '/v1/targets/{target}/book/pruning',
      role: 'admin',
      summary: 'Remove old entries with their images: count them, or do it. Seals go on holding.',
      body: { 'application/json': { schema: pruningInput } },
      replies: { 200: { description: 'What was removed, or would be.', schema: pruning } },
      problems: ['book-not-prepared', 'book-altered', 'cancelled', 'time-limit', 'outcome-unknown'],
      mayChange: true,
      longestMs: LONGEST_MS,
      handle: async (call) => {
        const { mode, before, note = null } = call.body
        const { actor } = call.caller
        return {
          status: 200,
          body: await pruneBook(targetOf(call), signer, { mode, before, note, actor, signal: call.gone() }),
        }
      },
    }),
    defineRoute({
      method: 'get',
      path: '/v1/targets/{target}/book/sizes',
      role: 'reader',
      summary: 'What the book holds by mapping and month, and the room it takes.',
      replies: { 200: { description: 'The sizes.', schema: sizesSchema } },
      problems: ['book-not-prepared', 'cancelled', 'time-limit'],
      longestMs: LONGEST_SEAL_MS,
      handle: async (call) => ({ status: 200, body: await bookSizes(targetOf(call), call.gone()) }),
    }),
  ]
}
