import { parse } from 'yaml'
import { Failure } from './failure.js'

/** Publishes those of the demo's definitions that are not there yet, and has the book prepared: as any admin would, over HTTP. */
export async function publishDemo(
  url: string,
  token: string,
  definitions: { file: string; source: string }[],
  say: (text: string) => void,
): Promise<void> {
  const headers = { authorization: `Bearer ${token}` }
  const target = `${url}/v1/targets/observatory`
  const published = new Set<string>()
  for (const kind of ['mappings', 'transactions'] as const) {
    const list = (await assertDone(await fetch(`${target}/${kind}`, { headers }), kind)) as Record<
      string,
      { name: string }[]
    >
    for (const { name } of list[kind] ?? []) published.add(`${kind} ${name}`)
  }
  const missing = definitions.filter(({ source }) => {
    const { mapping, transaction } = parse(source) as { mapping?: string; transaction?: string }
    return !published.has(transaction === undefined ? `mappings ${mapping}` : `transactions ${transaction}`)
  })
  if (missing.length > 0) {
    const body = JSON.stringify({ definitions: missing })
    const answer = await fetch(`${target}/definitions`, {
      method: 'POST',
      headers: { ...headers, 'content-type': 'application/json' },
      body,
    })
    await assertDone(answer, 'definitions')
  }
  const book = await assertDone(await fetch(`${target}/book`, { method: 'POST', headers }), 'book')
  if ((book as { prepared: string }).prepared === 'now') say('prepared the book in the demo')
}

async function assertDone(answer: Response, what: string): Promise<unknown> {
  if (answer.ok) return answer.json()
  if (answer.status === 401)
    throw new Failure(
      'The token in the file admin-token of the data folder was revoked. Remove that file and start again: a new one is made.',
    )
  throw new Failure(`The demo's ${what} was refused: ${answer.status} ${await answer.text()}`)
}
