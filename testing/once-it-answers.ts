import { isProblem } from '@ledgerman/contract'

/**
 * While a machine is busy with other tests, opening a session can take longer than a service waits for one.
 *
 * @param said what has to stand in the refusal, where other losses are what is tested
 */
export async function onceItAnswers<T>(work: () => Promise<T>, said = ''): Promise<T> {
  for (let tries = 1; ; tries++) {
    try {
      return await work()
    } catch (error) {
      if (!isProblem(error, 'target-unavailable') || !error.detail.includes(said) || tries === 5) throw error
    }
  }
}
