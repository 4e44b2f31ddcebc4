import type { Job } from '@ledgerman/contract'
import type { RunningService } from '../../../testing/running-service.js'

const T = '/v1/targets/observatory'
const JSON_BODY = { 'content-type': 'application/json' }

/** What a service is asked for, and what comes of it once it is over. */
export function jobEnds(of: () => RunningService) {
  const followed = async (id: string): Promise<Job> => {
    let last: Job | undefined
    for await (const now of of().client.followJob(id)) last = now
    return last as Job
  }

  /** Begins a job and waits for its end. */
  async function run(body: object | string, query: Record<string, string> = {}, headers = JSON_BODY): Promise<Job> {
    const begun = await of().request('POST', `${T}/jobs?${new URLSearchParams(query)}`, { body, headers })
    expect([begun.status, begun.text]).toEqual([202, expect.any(String)])
    return followed(begun.body.id as string)
  }

  /** Puts back all that was committed since a moment, be it a job or not. */
  async function putBack(since: string): Promise<void> {
    const body = { mode: 'commit', since }
    const begun = await of().request('POST', `${T}/reversals`, { body, headers: JSON_BODY })
    expect([begun.status, begun.text]).toEqual([begun.status === 202 ? 202 : 201, expect.any(String)])
    if (begun.status === 202) expect((await followed(begun.body.id as string)).problem).toBeNull()
  }

  return { run, putBack }
}
