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
