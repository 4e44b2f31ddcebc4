import { Agent, request } from 'node:http'

const agent = new Agent({ keepAlive: true, maxSockets: 64 })

/** One HTTP call, without the weight of a client library; throws unless it is answered with 200. */
export function call(
  url: string,
  method: string,
  headers: Record<string, string> = {},
  body?: string,
): Promise<string> {
  return new Promise((resolve, reject) => {
    const sent = request(
      url,
      {
        agent,
        method,
        headers: { ...headers, ...(body === undefined ? {} : { 'content-length': String(Buffer.byteLength(body)) }) },
      },
      (answer) => {
        let text = ''
        answer.setEncoding('utf8')
        answer.on('data', (chunk: string) => (text += chunk))
        answer.on('end', () =>
          answer.statusCode === 200 || answer.statusCode === 201
            ? resolve(text)
            : reject(new Error(`${answer.statusCode}: ${text}`)),
        )
      },
    )
    sent.on('error', reject)
    sent.end(body)
  })
}
