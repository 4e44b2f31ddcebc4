import { createRequire } from 'node:module'

/** Loads what reads source code: it is a package of its own, since most commands need none of its grammars. */
export function loadReview(): Promise<typeof import('@ledgerman/review')> {
  const load = createRequire(import.meta.url)('../bin/load-review.cjs') as () => Promise<
    typeof import('@ledgerman/review')
  >
  return load()
}
