import { parse } from 'yaml'
import { Failure } from './failure.js'

/** Publishes those of the demo's mappings that are not there yet, and has the book prepared: as any admin would, over HTTP. */
export async function publishDemo(
  url: string,
  token: string,
  mappings: string[],
  say: (text: string) => void,
): Promise<void> {
  const headers = { authorization: `Bearer ${token}` }
  const target = `${url}/v1/targets/observatory`
  for (const source of mappings) {
    const { mapping } = parse(source) as { mapping: string }
    const answer = await fetch(`${target}/mappings/${mapping}`, {
      method: 'PUT',
      headers: { ...headers, 'content-type': 'application/yaml', 'if-none-match': '*' },
      body: source,
    })
    if (answer.status !== 412) await assertDone(answer, `mapping ${mapping}`)
  }
  const book = await assertDone(await fetch(`${target}/book`, { method: 'POST', headers }), 'book')
  if ((book as { prepared: string }).prepared === 'now') say('prepared the book in the demo')
}

async function assertDone(answer: Response, what: string): Promise<unknown> {
  if (answer.ok) return answer.json()
  throw new Failure(`The demo's ${what} was refused: ${answer.status} ${await answer.text()}`)
}
