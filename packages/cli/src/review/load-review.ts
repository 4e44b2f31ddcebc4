import type * as Review from '@ledgerman/review'

/** Loads what reads source code: it is a package of its own, since most commands need none of its grammars. */
export function loadReview(): Promise<typeof Review> {
  const { createRequire } = process.getBuiltinModule('node:module')
  const load = createRequire(import.meta.url)('../bin/load-review.cjs') as () => Promise<typeof Review>
  return load()
}
