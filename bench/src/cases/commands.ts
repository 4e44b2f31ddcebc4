import { execFile } from 'node:child_process'
import { join } from 'node:path'
import { promisify } from 'node:util'
import { compare, type Ratio } from '../compare.js'
import { call } from '../http-caller.js'

const execute = promisify(execFile)
const PROGRAM = join(import.meta.dirname, '../../../packages/cli/bin/ledgerman.cjs')

/** What a command takes beside what Node and the call take: its budget is a ratio of 0.77, which is 1.3 times as long. */
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
        name: 'ledgerman load',
        once: () => execute(process.execPath, [PROGRAM, 'load', 'allocation', '1'], { env }),
      },
    ],
    { callers: 1, slotMs: 2_000, warmUpMs: 1_000 },
  )
}
