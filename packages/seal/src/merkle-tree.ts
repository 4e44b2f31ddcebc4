import { hash } from 'node:crypto'

// The Merkle tree of RFC 9162, section 2.1: SHA-256; a leaf's hash begins with a zero byte, an inner one's with a one.
const LEAF = '\0'
const NODE = 1

/** Of a tree without leaves. */
export const EMPTY_ROOT: Buffer = hash('sha256', '', 'buffer')

export function leafHash(content: string): Buffer {
  return hash('sha256', LEAF + content, 'buffer')
}

export function nodeHash(left: Buffer, right: Buffer): Buffer {
  const both = Buffer.allocUnsafe(65)
  both[0] = NODE
  left.copy(both, 1)
  right.copy(both, 33)
  return hash('sha256', both, 'buffer')
}

/**
 * A tree that leaves are added to at its end. It keeps one hash for each full subtree it is made of, the largest first: as many as its
 * size has ones in binary, so that a book of any length is held in a few lines.
 */
export class GrowingTree {
  readonly #peaks: Buffer[]
  #size: number

  /** @param peaks of a tree of that size, as `peaks` gave them. */
  constructor(size = 0, peaks: readonly Buffer[] = []) {
    if (peaks.length !== onesOf(size))
      throw new RangeError(`A tree of ${size} leaves has ${onesOf(size)} full subtrees, not ${peaks.length}.`)
    this.#size = size
    this.#peaks = [...peaks]
  }

  get size(): number {
    return this.#size
  }

  get peaks(): readonly Buffer[] {
    return this.#peaks
  }

  add(leaf: Buffer): void {
    let hash = leaf
    // Each full subtree of the same size that stands before it joins with it.
    for (let size = this.#size; size % 2 === 1; size = (size - 1) / 2)
      hash = nodeHash(this.#peaks.pop() as Buffer, hash)
    this.#peaks.push(hash)
    this.#size++
  }

  root(): Buffer {
    if (this.#size === 0) return EMPTY_ROOT
    return this.#peaks.reduceRight((right, left) => nodeHash(left, right))
  }
}

function onesOf(size: number): number {
  let ones = 0
  for (let rest = size; rest > 0; rest = Math.floor(rest / 2)) ones += rest % 2
  return ones
}

/** A part of the leaves, from the first on and before the second. */
export interface LeafRange {
  from: number
  before: number
}

/** The subtrees beside the way from a leaf to the root, from the leaf up (RFC 9162, section 2.1.3.1). */
export function rangesBeside(index: number, size: number): LeafRange[] {
  const down: LeafRange[] = []
  for (let from = 0, before = size; before - from > 1;) {
    const middle = from + largestPowerBelow(before - from)
    if (index < middle) {
      down.push({ from: middle, before })
      before = middle
    } else {
      down.push({ from, before: middle })
      from = middle
    }
  }
  return down.reverse()
}

function largestPowerBelow(size: number): number {
  let power = 1
  while (power * 2 < size) power *= 2
  return power
}

/** Gathers a leaf's path from all leaves, given in order: none is kept. */
export class PathGatherer {
  readonly #parts: { range: LeafRange; tree: GrowingTree }[]
  #next = 0

  constructor(index: number, size: number) {
    this.#parts = rangesBeside(index, size).map((range) => ({ range, tree: new GrowingTree() }))
  }

  add(leaf: Buffer): void {
    const at = this.#next++
    this.#parts.find(({ range }) => at >= range.from && at < range.before)?.tree.add(leaf)
  }

  path(): Buffer[] {
    return this.#parts.map(({ tree }) => tree.root())
  }
}

/** The root that a leaf at that place leads to; undefined where the path is not one of a tree of that size (RFC 9162, section 2.1.3.2). */
export function rootOfPath(leaf: Buffer, index: number, size: number, path: readonly Buffer[]): Buffer | undefined {
  const ranges = index < size ? rangesBeside(index, size) : []
  if (index >= size || ranges.length !== path.length) return undefined
  return path.reduce((hash, beside, at) => {
    const isRight = (ranges[at] as LeafRange).from > index
    return isRight ? nodeHash(hash, beside) : nodeHash(beside, hash)
  }, leaf)
}
