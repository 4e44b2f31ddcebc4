import { existsSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { CODE_FORMS, LedgermanProblem, type DrilledRun, type DrillRequest } from '@ledgerman/contract'
import type { TargetClient } from '@ledgerman/client'

/**
 * Whether the folder has the code that would be written for the drilled transactions now, and whether that writes entries: the service drills
 * what it writes itself, so it has to be the same.
 *
 * @throws LedgermanProblem request-invalid where a file is missing or differs
 */
export async function formOfCode(
  target: TargetClient,
  dir: string,
  request: DrillRequest,
): Promise<(typeof CODE_FORMS)[number]> {
  const transactions = [...new Set(runsOf(request).flatMap((run) => ('transaction' in run ? [run.transaction] : [])))]
  if (transactions.length === 0)
    throw new LedgermanProblem('request-invalid', '--code: code is written for transactions, and none is drilled.', {
      where: '--code',
    })
  let differing: string[] = []
  for (const form of CODE_FORMS) {
    const files = await target.code({ mappings: [], transactions, book: form === 'booked' })
    differing = files
      // What it exports depends on what else was written there.
      .filter(({ path }) => path !== 'index.ts')
      .flatMap(({ path, text }) => {
        const file = join(dir, path)
        return existsSync(file) && readFileSync(file, 'utf8') === text ? [] : [path]
      })
    if (differing.length === 0) return form
  }
  throw new LedgermanProblem(
    'request-invalid',
    `--code: ${dir} does not have the code that is written for ${transactions.join(', ')} now: ${differing.join(', ')}. Write it again: ledgerman emit ${dir} --transaction ${transactions.join(' ')}`,
    { where: '--code' },
  )
}

function runsOf(request: DrillRequest): DrilledRun[] {
  if (request.kind !== 'fault') return request.runs as DrilledRun[]
  return request.run ? [request.run as DrilledRun] : [{ transaction: request.transaction ?? '' }]
}
