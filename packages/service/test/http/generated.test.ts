import { RequestMaker, randomOf, type GeneratedRequest } from '../../../../testing/generated-requests.js'
import { processorCost } from '../../../../testing/processor.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'

// Requests made of the OpenAPI document, as it asks and not. LEDGERMAN_TEST_REQUESTS says how many, LEDGERMAN_TEST_SEED which.

const REQUESTS = Number(process.env['LEDGERMAN_TEST_REQUESTS'] ?? 5_000)
const SEED = Number(process.env['LEDGERMAN_TEST_SEED'] ?? Math.floor(Math.random() * 2 ** 31))
const AT_ONCE = 8
/** Longer than any of these calls may take by itself, in milliseconds: the lock wait and the time limit of the test's target. */
const LONGEST_MS = 15_000
/** How much of the processor those that are sent at once may take, in beats: about milliseconds. */
const MOST = AT_ONCE * 250

let service: RunningService

beforeAll(async () => {
  service = await startTestService()
})
afterAll(() => service.stop())

/** Drills, walks and proofs build a database each; what is staged holds locks; a session that is ended may be the service's own. */
const isQuick = (_method: string, path: string) => !/\/(drills|walks|proof|staged|waits|session)\b/.test(path)

async function send({
  method,
  path,
  headers,
  body,
}: GeneratedRequest): Promise<{ status: number; ms: number; text: string }> {
  const since = performance.now()
  const answer = await fetch(service.url + path, {
    method,
    headers: { authorization: `Bearer ${service.token}`, ...headers },
    signal: AbortSignal.timeout(LONGEST_MS),
    ...(body === undefined ? {} : { body }),
  })
  const text = await answer.text()
  return { status: answer.status, ms: performance.now() - since, text }
}

/** Sends requests at once, and says how long the process was busy with all of them. */
async function sendAll(requests: GeneratedRequest[]) {
  const before = process.cpuUsage()
  const answers = await Promise.all(
    requests.map((request) => send(request).catch((error: unknown) => ({ status: 0, ms: 0, text: String(error) }))),
  )
  const { user, system } = process.cpuUsage(before)
  return { answers, busyMs: (user + system) / 1000 }
}

it(`answers ${REQUESTS} generated requests, none with a fault of its own (seed ${SEED})`, async () => {
  const { body: document } = await service.request('GET', '/openapi.json', { token: '' })
  const maker = new RequestMaker(document, randomOf(SEED), isQuick)
  const faults: string[] = []
  const heavy: string[] = []
  const byStatus = new Map<number, number>()
  for (let sent = 0; sent < REQUESTS; sent += AT_ONCE) {
    const requests = Array.from({ length: AT_ONCE }, () => maker.next())
    const { answers, busyMs } = await sendAll(requests)
    // A slow processor, and one that somebody else holds up, counts as busy too: what is heavy is so by its cost.
    if (busyMs > MOST && (await processorCost(() => sendAll(requests), MOST)) >= MOST)
      heavy.push(JSON.stringify(requests))
    answers.forEach(({ status, text }, at) => {
      byStatus.set(status, (byStatus.get(status) ?? 0) + 1)
      if (status === 0 || status >= 500)
        faults.push(`${status} ${text.slice(0, 300)} for ${JSON.stringify(requests[at])}`)
    })
  }
  expect(faults).toEqual([])
  expect(heavy).toEqual([])
  // Requests that are all refused would show little.
  expect(byStatus.get(200) ?? 0).toBeGreaterThan(REQUESTS / 20)
}, 1_800_000)
