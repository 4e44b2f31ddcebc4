import { generateKeyPairSync } from 'node:crypto'
import type { EntryProof } from '@ledgerman/contract'
import fc from 'fast-check'
import {
  canonicalJson,
  GrowingTree,
  leafHash,
  nodeHash,
  PathGatherer,
  sealSigner,
  whyNotProven,
  whyNotSigned,
} from '../../src/index.js'

const { privateKey, publicKey } = generateKeyPairSync('ed25519')
const signer = sealSigner(privateKey)
const AT = '2026-02-03T21:00:00.000000Z'

/** MTH of RFC 9162, section 2.1.1, word for word. */
function rootOf(leaves: Buffer[]): Buffer {
  if (leaves.length === 0) return new GrowingTree().root()
  if (leaves.length === 1) return leaves[0] as Buffer
  let k = 1
  while (k * 2 < leaves.length) k *= 2
  return nodeHash(rootOf(leaves.slice(0, k)), rootOf(leaves.slice(k)))
}

const contents = fc
  .array(fc.jsonValue(), { minLength: 1, maxLength: 70 })
  .map((values) => values.map((value) => ({ value })))

describe('a seal', () => {
  it('has the root that the standard says, however the tree was grown', () => {
    fc.assert(
      fc.property(contents, fc.nat(), (entries, at) => {
        const leaves = entries.map((entry) => leafHash(canonicalJson(entry)))
        const cut = at % leaves.length
        const begun = new GrowingTree()
        leaves.slice(0, cut).forEach((leaf) => begun.add(leaf))
        const tree = new GrowingTree(begun.size, begun.peaks)
        leaves.slice(cut).forEach((leaf) => tree.add(leaf))
        expect(tree.root()).toEqual(rootOf(leaves))
        expect(tree.size).toBe(leaves.length)
      }),
    )
  })

  it('has the hash of no leaf and of one that the standard gives', () => {
    expect(new GrowingTree().root().toString('hex')).toBe(
      'e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855',
    )
    expect(leafHash('').toString('hex')).toBe('6e340b9cffb37a989ca544e6bb780a2c78901d3fb33738768511a30617afa01d')
  })

  it('is shown to cover an entry by a proof that stands no change', () => {
    fc.assert(
      fc.property(contents, fc.nat(), fc.nat(), (entries, at, damage) => {
        const index = at % entries.length
        const proof = prove(entries, index)
        expect(whyNotProven(proof, publicKey)).toBeNull()
        const damaged = damagedProofs(proof)
        const { what, changed } = damaged[damage % damaged.length] as { what: string; changed: EntryProof }
        // Two entries that say the same prove each other.
        const other = entries[index % 2 === 0 ? index + 1 : index - 1]
        fc.pre(what !== 'sibling' || JSON.stringify(other) !== JSON.stringify(entries[index]))
        expect([what, whyNotProven(changed, publicKey)]).not.toEqual([what, null])
      }),
    )
  })

  it('is of one key only, and of no other kind of key', () => {
    const made = signer.sign({ entries: 0, root: new GrowingTree().root().toString('hex'), at: AT })
    const other = generateKeyPairSync('ed25519')
    expect(whyNotSigned(made, other.publicKey)).toMatch(/^it was signed with the key [0-9a-f]{16}…, not with/)
    expect(whyNotSigned({ ...made, key: sealSigner(other.privateKey).key }, other.publicKey)).toBe(
      'its signature does not fit what it says',
    )
    for (const signature of [`${made.signature}x`, ` ${made.signature}`, made.signature.replace('==', '')])
      expect(whyNotSigned({ ...made, signature }, publicKey)).toBe('its signature does not fit what it says')
    expect(() => sealSigner(generateKeyPairSync('ec', { namedCurve: 'P-256' }).privateKey)).toThrow(/Ed25519/)
  })
})

function prove(entries: Record<string, unknown>[], index: number): EntryProof {
  const tree = new GrowingTree()
  const gatherer = new PathGatherer(index, entries.length)
  for (const entry of entries) {
    tree.add(leafHash(canonicalJson(entry)))
    gatherer.add(leafHash(canonicalJson(entry)))
  }
  const entry = entries[index] as Record<string, unknown>
  return {
    entry,
    leaf: leafHash(canonicalJson(entry)).toString('hex'),
    index,
    path: gatherer.path().map((hash) => hash.toString('hex')),
    seal: signer.sign({ entries: entries.length, root: tree.root().toString('hex'), at: AT }),
  }
}

function damagedProofs(proof: EntryProof): { what: string; changed: EntryProof }[] {
  const { entry, index, path, seal } = proof
  const flip = (hash: string) => (hash.startsWith('0') ? '1' : '0') + hash.slice(1)
  return [
    { what: 'entry', changed: { ...proof, entry: { ...entry, more: 1 } } },
    { what: 'leaf', changed: { ...proof, leaf: flip(proof.leaf) } },
    { what: 'index behind the end', changed: { ...proof, index: seal.entries } },
    { what: 'path longer', changed: { ...proof, path: [...path, flip(proof.leaf)] } },
    {
      what: 'path',
      changed:
        path.length === 0 ? { ...proof, index: 1 } : { ...proof, path: [flip(path[0] as string), ...path.slice(1)] },
    },
    {
      what: 'sibling',
      changed:
        path.length === 0 ? { ...proof, index: 1 } : { ...proof, index: index % 2 === 0 ? index + 1 : index - 1 },
    },
    { what: 'seal', changed: { ...proof, seal: { ...seal, entries: seal.entries + 1 } } },
    { what: 'moment', changed: { ...proof, seal: { ...seal, at: '2026-02-03T21:00:01.000000Z' } } },
  ]
}
