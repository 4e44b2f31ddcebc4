import { LedgermanClient } from '@ledgerman/client'

// What a proxy before the service says of it, or something else that listens at its address.
const answering = (status: number, headers: Record<string, string> = {}) =>
  new LedgermanClient({
    url: 'http://desk.harrowfell.example',
    token: 'x',
    fetch: () => Promise.resolve(new Response('<h1>Not what was asked</h1>', { status, headers }) as never),
  }).target('observatory')

it.each([
  [301, { location: 'https://desk.harrowfell.example/v1' }, 'request-invalid', 'to https://desk.harrowfell.example.'],
  [413, {}, 'too-large', 'A proxy before the service takes no body of that size (413).'],
  [502, {}, 'target-unavailable', 'cannot be reached: a proxy before it answered 502. Is it running?'],
  [404, {}, 'internal', 'is it Ledgerman at this address?'],
])('an answer of %i that is no problem is told as what it is', async (status, headers, code, detail) => {
  await expect(answering(status, headers).load('programme', ['P-107'])).rejects.toMatchObject({
    code,
    detail: expect.stringContaining(detail) as string,
  })
})

it.each([502, 503, 504])('a proxy that answers a change with %i says nothing of what became of it', async (status) => {
  const change = answering(status).change('programme', ['P-107'], { priority: 2 }, { guard: '*', mode: 'commit' })
  await expect(change).rejects.toMatchObject({
    code: 'outcome-unknown',
    detail: `A proxy answered ${status}. Whether it changed anything is not known: look into the book for its entry.`,
  })
})

it.each([
  ['ECONNRESET', 'the connection was closed', 'load', 'gave no answer: the connection was closed. Is it running?'],
  ['ECONNRESET', 'the connection was closed', 'commit', 'Whether it changed anything is not known'],
  ['ECONNREFUSED', 'connect ECONNREFUSED', 'commit', 'cannot be reached: connect ECONNREFUSED. Is it running?'],
  ['CERT_HAS_EXPIRED', 'certificate has expired', 'commit', 'cannot be reached: certificate has expired. Have Node'],
])('%s (%s) in the middle of a %s says what is known', async (code, message, what, detail) => {
  const cause = Object.assign(new Error(message), { code })
  const desk = new LedgermanClient({
    url: 'https://desk.harrowfell.example',
    token: 'x',
    fetch: () => Promise.reject(new TypeError('fetch failed', { cause })),
  }).target('observatory')
  const options = { guard: '*', mode: 'commit' as const }
  const call =
    what === 'load' ? desk.load('programme', ['P-107']) : desk.change('programme', ['P-107'], { priority: 2 }, options)
  await expect(call).rejects.toThrow(detail)
})
