import type { KeyObject } from 'node:crypto'
import type { EntryProof } from '@ledgerman/contract'
import { canonicalJson } from './canonical-json.js'
import { leafHash, rootOfPath } from './merkle-tree.js'
import { whyNotSigned } from './signed-seal.js'

/** Why a proof does not show that its entry is under its seal; null where it does. Needs neither service nor database. */
export function whyNotProven({ entry, leaf, index, path, seal }: EntryProof, publicKey: KeyObject): string | null {
  const unsigned = whyNotSigned(seal, publicKey)
  if (unsigned !== null) return `The seal does not hold: ${unsigned}.`
  if (leafHash(canonicalJson(entry)).toString('hex') !== leaf)
    return 'The entry is not the one that the leaf was made of.'
  const root = rootOfPath(
    Buffer.from(leaf, 'hex'),
    index,
    seal.entries,
    path.map((hash) => Buffer.from(hash, 'hex')),
  )
  if (root?.toString('hex') !== seal.root) return 'The path does not lead from the entry to the root that was sealed.'
  return null
}
