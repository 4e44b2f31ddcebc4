import type { Receipt } from '@ledgerman/contract'
import type { Attempt } from './attempt.js'
import type { AsOne } from './run-as-one.js'

/** What a lane found and wrote: an attempt that went step by step; the rows of one statement; or what the book has of it from before. */
export type Found =
  | { by: 'steps'; attempt: Attempt }
  | { by: 'one statement'; attempt: Attempt; rows: readonly (readonly (string | null)[])[]; asOne?: AsOne }
  | { by: 'a request before'; receipt: Receipt }
