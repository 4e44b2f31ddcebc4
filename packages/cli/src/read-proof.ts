import { createPublicKey, type KeyObject } from 'node:crypto'
import {
  checkInput,
  describeIssues,
  entryProof,
  LedgermanProblem,
  sayIssue,
  type EntryProof,
} from '@ledgerman/contract'
import { whyNotProven } from '@ledgerman/seal'

/**
 * Reads a proof and checks it.
 *
 * @param key the public key as PEM
 * @returns the proof, and why it does not hold; null where it does.
 * @throws LedgermanProblem request-invalid where it is no proof, or no such key.
 */
export function readProof(input: unknown, key: string): { proof: EntryProof; why: string | null } {
  const read = checkInput(entryProof, input)
  if (!read.success) {
    const [first] = describeIssues(read.error, input).map(sayIssue)
    throw new LedgermanProblem('request-invalid', `file: it is no proof: ${first}`, {
      where: 'file',
    })
  }
  return { proof: read.data, why: whyNotProven(read.data, readKey(key)) }
}

function readKey(pem: string): KeyObject {
  let key: KeyObject | undefined
  try {
    key = createPublicKey(pem)
  } catch {
    // Told below, with what was expected.
  }
  if (key?.asymmetricKeyType !== 'ed25519')
    throw new LedgermanProblem(
      'request-invalid',
      '--key: expected a public key for Ed25519, as PEM: ledgerman book key.',
      {
        where: '--key',
      },
    )
  return key
}
