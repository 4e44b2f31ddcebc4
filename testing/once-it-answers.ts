import { isProblem } from '@ledgerman/contract'

/** While a machine is busy with other tests, opening a session can take longer than a service waits for one. */
export async function onceItAnswers(work: () => Promise<unknown>): Promise<void> {
  for (let tries = 1; ; tries++) {
    try {
      return void (await work())
    } catch (error) {
      if (!isProblem(error, 'target-unavailable') || tries === 5) throw error
    }
  }
}
