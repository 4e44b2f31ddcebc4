import type { ProofTools } from './prove/proof-tools.js'

/** Who is told how far a drill is, and what stops it. */
export interface DrillOptions {
  signal?: AbortSignal | undefined
  onProgress?: ((done: number, total: number, what: string) => void) | undefined
  /** What drills of written code need. */
  tools?: ProofTools | undefined
}
