import { isProblem } from '@ledgerman/contract'
import { onScopeDispose, ref, type Ref } from 'vue'

/** From when on work is long: then it shows that it can be stopped. */
const LONG_MS = 600

/** Work that a page waits for, one at a time: another begun ends it, as does leaving the page. */
export function useLongWork(problem: Ref<unknown>) {
  const isBusy = ref(false)
  const isLong = ref(false)
  let own: AbortController | undefined

  /** @returns what the work gave; undefined where it was stopped, or refused, which `problem` says then. */
  async function run<T>(work: (signal: AbortSignal) => Promise<T>): Promise<T | undefined> {
    own?.abort()
    const mine = (own = new AbortController())
    const timer = setTimeout(() => (isLong.value = true), LONG_MS)
    isBusy.value = true
    problem.value = null
    try {
      const given = await work(mine.signal)
      // An answer that comes after a later question is no answer any more.
      return mine.signal.aborted ? undefined : given
    } catch (error) {
      const isStopped = mine.signal.aborted && isProblem(error, 'cancelled')
      if (!isStopped && mine === own) problem.value = error
      return undefined
    } finally {
      clearTimeout(timer)
      if (mine === own) isBusy.value = isLong.value = false
    }
  }

  function stop(): void {
    own?.abort()
  }

  onScopeDispose(stop)
  return { isBusy, isLong, run, stop }
}
