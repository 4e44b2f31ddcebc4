import type { CodeFile } from '@ledgerman/contract'

/** Written code that can be called: what its index exports. */
export type CodeModule = Readonly<Record<string, unknown>>

/** What a proof needs from outside the core: written code is compiled, and a pool of node-postgres made, by whoever runs it. */
export interface ProofTools {
  load(files: readonly CodeFile[]): Promise<CodeModule>
  /** A pool for this database, and its end. `settings` are what node-postgres takes beside the address. */
  pool(url: string, most?: number, settings?: object): { pool: unknown; end(): Promise<void> }
}
