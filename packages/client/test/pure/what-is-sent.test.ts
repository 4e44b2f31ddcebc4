import { LedgermanClient } from '@ledgerman/client'

// What a caller gives that types would refuse, as in JavaScript, or behind a cast: nothing of it is sent as something else.
const sent: { address: string; body: string }[] = []
const answer = () => Promise.resolve(new Response('{}', { status: 200 }) as never)
const desk = new LedgermanClient({
  url: 'http://desk.harrowfell.example',
  token: 'x',
  fetch: (address, { body }) => {
    sent.push({ address, body: String(body) })
    return answer()
  },
}).target('observatory')
const any = (value: unknown) => value as never

it('asks for all that a commit needs before it sends it, so that nothing can fail behind it', async () => {
  const methods: string[] = []
  const away = new LedgermanClient({
    url: 'http://desk.harrowfell.example',
    fetch: (_, { method }) => {
      methods.push(method)
      return method === 'GET' ? Promise.reject(new Error('away')) : answer()
    },
  }).draft('observatory')
  away.add('telescope', { code: 'HF9' })
  await expect(away.commit()).rejects.toMatchObject({ code: 'target-unavailable' })
  await expect(away.commit(any({ rehersal: 'x' }))).rejects.toMatchObject({ where: 'rehersal' })
  expect(methods).toEqual(['GET'])
})

beforeEach(() => void (sent.length = 0))

it.each<[string, (value: never) => Promise<unknown>, RegExp]>([
  ['a key that is a text', () => desk.load('programme', any('P-107')), /^key: expected a list/],
  ['a key by names', () => desk.load('programme', any({ code: 'P-107' })), /^key: expected a list/],
  [
    'a key without a value',
    () => desk.remove('programme', any([undefined]), { guard: '*' }),
    /value 1 .* got undefined/,
  ],
  ['an option that is none', () => desk.change('programme', ['P-107'], {}, any({ mod: 'rehearse' })), /mean mode\?/],
  ['one of another call', () => desk.add('programme', {}, any({ guard: '*' })), /^guard: there is no such option/],
  ['a name for a run', () => desk.run(any('move-hours')), /takes an object, and was given the text "move-hours"/],
  [
    'a map',
    () => desk.change('programme', ['P-107'], { settings: new Map() }, { guard: '*' }),
    /^set.settings: .* got Map/,
  ],
  [
    'bytes',
    () => desk.run({ transaction: 't', params: { plate: Buffer.from('x') } } as never),
    /^params.plate: expected/,
  ],
])('%s is refused, and nothing is sent', async (_, call, detail) => {
  await expect(call(undefined as never)).rejects.toMatchObject({ detail: expect.stringMatching(detail) as string })
  expect(sent).toEqual([])
})

it.each([
  [
    'token',
    'abc\r',
    {},
    'token: no HTTP header can carry the character U+000D, a carriage return at its end. Nothing was sent.',
  ],
  ['idempotencyKey', 'x', { idempotencyKey: 'night 7 ☾ Ω' }, /character U\+263E, ☾ in it/],
])('a %s that no header can carry is refused before a commit is sent', async (where, token, options, detail) => {
  const client = new LedgermanClient({ url: 'http://desk.harrowfell.example', token, fetch: answer })
  const run = client.target('observatory').run({ transaction: 'move', mode: 'commit', params: {} }, options)
  await expect(run).rejects.toMatchObject({ code: 'request-invalid', where })
  await expect(run).rejects.toThrow(detail)
})

it('sends every digit, no null for what is no number, and nothing for what is undefined', async () => {
  const values = { big: 2n ** 64n, none: undefined, infinite: Infinity, not: NaN, at: new Date(0) }
  await desk.change('programme', ['P-107'], values as never, { guard: 'v1' })
  expect(sent[0]?.body).toBe(
    '{"set":{"big":18446744073709551616,"infinite":"Infinity","not":"NaN","at":"1970-01-01T00:00:00.000Z"}}',
  )
  await desk.load('sky', any([7, 8n, true]))
  expect(sent[1]?.address).toMatch(/\/records\/7,8,true$/)
})

it.each([undefined, 'localhost:4680', 4680])('a service at %p is at no address', (url) => {
  expect(() => new LedgermanClient(any({ url, token: 'x' }))).toThrow(/^request-invalid: url: expected the address/)
})
