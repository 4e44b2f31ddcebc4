import { execFile } from 'node:child_process'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { compare, type Ratio } from '../compare.js'
import { call } from '../http-caller.js'

const execute = promisify(execFile)
const PROGRAM = join(import.meta.dirname, '../../../packages/cli/bin/ledgerman.cjs')

/** The least that a program of Node's can do to make the call. */
const BARE = `require('node:http').get(process.env.RECORD, { headers: { authorization: 'Bearer ' + process.env.LEDGERMAN_TOKEN } },
  (answer) => { let text = ''; answer.on('data', (part) => (text += part)).on('end', () => console.log(text)) })`

/** What a command takes beside what Node and the call take. Its budget is a ratio of 0.77, 1.3 times as long. */
export function compareCommands(url: string, token: string): Promise<Ratio[]> {
  const env = { PATH: process.env['PATH'], LEDGERMAN_URL: url, LEDGERMAN_TOKEN: token, LEDGERMAN_TARGET: 'bench' }
  const record = `${url}/v1/targets/bench/mappings/allocation/records/1`
  return compare(
    [
      {
        name: 'node -e 0, and the call',
        once: async () => {
          await execute(process.execPath, ['-e', '0'], { env })
          await call(record, 'GET', { authorization: `Bearer ${token}` })
        },
      },
      {
        name: 'a program that makes the call, and no more',
        once: () => execute(process.execPath, ['-e', BARE], { env: { ...env, RECORD: record } }),
      },
      {
        name: 'ledgerman load',
        once: () => execute(process.execPath, [PROGRAM, 'load', 'allocation', '1'], { env }),
      },
    ],
    // One of each in turn: what else the machine does falls on its neighbours as well.
    { rounds: 100, callers: 1, slotMs: 1, warmUpMs: 1_000 },
  )
}
