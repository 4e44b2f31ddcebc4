import { z } from 'zod'
import { RUN_MODES } from '../receipt/receipt-kinds.js'

const digest = z.string().regex(/^[0-9a-f]{64}$/)

/** A signed tree head (RFC 9162) over the first entries of a book, in the book's order. */
export const seal = z
  .strictObject({
    entries: z.int().min(0).describe('How many entries are under it.'),
    root: digest.describe("The Merkle tree's root over them (SHA-256, in hexadecimal)."),
    at: z.iso.datetime().describe('When it was made, by the clock of the database.'),
    key: digest.describe('Which key signed it: the SHA-256 of its public half (SubjectPublicKeyInfo, DER).'),
    signature: z
      .string()
      .regex(/^[A-Za-z0-9+/]{86}==$/)
      .describe('Ed25519, in base64, over the canonical JSON (RFC 8785) of the four members above.'),
  })
  .meta({ id: 'Seal' })

export const SEAL_FINDINGS = ['altered', 'missing', 'inserted', 'reordered'] as const

export const sealFinding = z.strictObject({
  entry: z.string().nullable().describe('Which entry; null where it is a seal, or where that is not known.'),
  what: z.enum(SEAL_FINDINGS),
  detail: z.string(),
})

export const verificationInput = z
  .strictObject({
    seal: seal.optional().describe('One that was kept outside: the book has to begin with what is under it.'),
  })
  .meta({ id: 'VerificationInput' })

export const verification = z
  .strictObject({
    ok: z.boolean(),
    entries: z.int().describe('Entries that were compared with what was sealed.'),
    pruned: z.int().describe('Entries that were pruned; what is left of them is their place in the tree.'),
    unsealed: z.int().describe('Entries that no seal covers yet.'),
    seal: seal.nullable().describe('The last seal in the book.'),
    findings: z.array(sealFinding).describe('The first thousand.'),
    count: z.int().describe('How many findings there are.'),
  })
  .meta({ id: 'Verification' })

/** What shows that one entry is under a seal: an inclusion proof as in RFC 9162, section 2.1.3. */
export const entryProof = z
  .strictObject({
    entry: z.record(z.string(), z.unknown()).describe('The entry as it was sealed.'),
    leaf: digest.describe('The hash of its canonical JSON (RFC 8785), with a zero byte before it.'),
    index: z.int().min(0).describe('Its place in the book, from 0.'),
    path: z.array(digest).max(64).describe('The hashes beside it, from the leaf to the root.'),
    seal,
  })
  .meta({ id: 'EntryProof' })

export const sealKey = z.strictObject({ key: z.string().describe('The public half, as PEM.') })

export const pruningInput = z
  .strictObject({
    mode: z.enum(RUN_MODES).describe('A rehearsal counts what would be removed.'),
    before: z.iso.datetime({ offset: true }).describe('Entries from before this moment are removed.'),
    note: z.string().max(2000).optional().describe('Kept with the entry that says what was pruned.'),
  })
  .meta({ id: 'PruningInput' })

export const pruning = z
  .strictObject({
    mode: z.enum(RUN_MODES),
    before: z.string(),
    entries: z.int().describe('Entries that were removed, or would be.'),
    images: z.int().describe('Images of rows that were removed with them.'),
    left: z.int().describe('Older entries that stay, since no seal covers them.'),
    entry: z.string().nullable().describe('The entry that says so.'),
  })
  .meta({ id: 'Pruning' })

export const bookSizes = z
  .strictObject({
    sizes: z.array(
      z.strictObject({
        month: z.string().describe('Such as 2026-02, in UTC.'),
        mapping: z.string().nullable(),
        entries: z.int(),
        images: z.int().describe('Images of rows, beside those that stand in an entry itself.'),
        bytes: z.int().describe('As they are stored, without indexes.'),
      }),
    ),
    totalBytes: z.int().describe('Of the whole book, with its indexes.'),
  })
  .meta({ id: 'BookSizes' })

export type PruningInput = z.output<typeof pruningInput>
export type Pruning = z.output<typeof pruning>
export type BookSizes = z.output<typeof bookSizes>
export type Seal = z.output<typeof seal>
export type SealFinding = z.output<typeof sealFinding>
export type VerificationInput = z.output<typeof verificationInput>
export type Verification = z.output<typeof verification>
export type EntryProof = z.output<typeof entryProof>
