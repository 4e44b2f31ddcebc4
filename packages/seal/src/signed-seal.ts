import { createHash, createPublicKey, sign, verify, type KeyObject } from 'node:crypto'
import type { Seal } from '@ledgerman/contract'
import { canonicalJson } from './canonical-json.js'

/** What signs seals: an Ed25519 key (RFC 8032) and what it is known by. */
export interface SealSigner {
  key: string
  publicKey: KeyObject
  sign(seal: Omit<Seal, 'key' | 'signature'>): Seal
}

/** @throws TypeError where the key is not one for Ed25519. */
export function sealSigner(privateKey: KeyObject): SealSigner {
  const publicKey = createPublicKey(privateKey)
  const key = keyFingerprint(publicKey)
  return {
    key,
    publicKey,
    sign({ entries, root, at }) {
      const signed = { entries, root, at, key }
      return { ...signed, signature: sign(null, Buffer.from(canonicalJson(signed)), privateKey).toString('base64') }
    },
  }
}

/** The SHA-256 of a public key (SubjectPublicKeyInfo, DER), in hexadecimal. @throws TypeError where it is not one for Ed25519. */
export function keyFingerprint(publicKey: KeyObject): string {
  if (publicKey.asymmetricKeyType !== 'ed25519')
    throw new TypeError(
      `Seals are signed with Ed25519; this is a key for ${publicKey.asymmetricKeyType ?? 'nothing known'}.`,
    )
  return createHash('sha256')
    .update(publicKey.export({ type: 'spki', format: 'der' }))
    .digest('hex')
}

/** Why a seal does not hold under that key; null where it does. */
export function whyNotSigned(seal: Seal, publicKey: KeyObject): string | null {
  const { signature, ...signed } = seal
  const own = keyFingerprint(publicKey)
  if (seal.key !== own) return `it was signed with the key ${seal.key.slice(0, 16)}…, not with ${own.slice(0, 16)}…`
  const bytes = Buffer.from(signature, 'base64')
  // Reading base64 passes over what does not belong to it: the text has to be as it was written, too.
  const isAsWritten = bytes.toString('base64') === signature
  const isValid = isAsWritten && verify(null, Buffer.from(canonicalJson(signed)), publicKey, bytes)
  return isValid ? null : 'its signature does not fit what it says'
}
