import type { Reply, RunningService } from './running-service.js'

/** A step as the receipt of a run tells it over HTTP. */
export interface ToldStep {
  matched: number
  changed: number
  skipped: boolean
  rows: { key: object; before: object | null; after: object | null }[]
}

/** Sends steps to the observatory as any program would. */
export function sendSteps(
  service: () => RunningService,
  mode: 'rehearse' | 'commit',
): (steps: object[], more?: object) => Promise<Reply> {
  return (steps, more = {}) =>
    service().request('POST', '/v1/targets/observatory/runs', {
      body: { mode, steps, ...more },
      headers: { 'content-type': 'application/json' },
    })
}

/** How many rows each step matched and changed. */
export function countsOf(steps: readonly ToldStep[]): (string | [matched: number, changed: number])[] {
  return steps.map(({ matched, changed, skipped }) => (skipped ? 'skipped' : [matched, changed]))
}
