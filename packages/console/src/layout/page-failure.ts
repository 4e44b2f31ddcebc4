import { ref } from 'vue'
import type { Router } from 'vue-router'

/** What could not be done beside the page that is shown, and where it led: a page that could not be loaded, a session that could not be ended. */
export const pageFailure = ref<{ message: string; to: string | null } | null>(null)

const RELOADED = 'ledgerman-reloaded'

/**
 * Tells of a page that could not be loaded. Where the service answers, it has been replaced by another release since, whose pages have other names:
 * then all of it is loaded again, once.
 */
export function watchForFailures(router: Router): void {
  router.onError(async (error: unknown, { fullPath }) => {
    const isThere = await fetch('/healthz').then(
      () => true,
      () => false,
    )
    if (isThere && sessionStorage.getItem(RELOADED) !== fullPath) {
      sessionStorage.setItem(RELOADED, fullPath)
      window.location.assign(fullPath)
      return
    }
    const why = isThere ? String(error instanceof Error ? error.message : error) : 'the service cannot be reached'
    pageFailure.value = { message: `The page could not be opened: ${why}.`, to: fullPath }
  })
  router.afterEach((_to, _from, failure) => {
    if (failure) return
    pageFailure.value = null
    sessionStorage.removeItem(RELOADED)
  })
}
