import { createReadStream, openSync } from 'node:fs'
import {
  isProblem,
  LedgermanProblem,
  type Images,
  type JobFileQuery,
  type MappingInfo,
  type OnMissing,
} from '@ledgerman/contract'
import type { TargetClient } from '@ledgerman/client'
import type { Command } from 'commander'
import type { CommandContext } from '../command-context.js'
import { wholeNumber } from '../whole-number.js'
import { followJob } from './follow-job.js'
import { modeOf, refuseFlags, type WriteFlags } from './write-flags.js'

/** What a change or removal of many can be given beside what it sets. */
export interface ManyFlags extends WriteFlags {
  where?: string
  param: Record<string, string>
  expect?: string
  everyRow?: boolean
  images?: Images
}

export interface FileFlags extends WriteFlags {
  from: string
  form?: 'csv' | 'ndjson'
  chunk?: string
  guard?: string
  onMissing?: OnMissing
  delimiter?: string
  images?: Images
}

/** From how many rows on, as the planner estimates, a change is a job: it can be followed, and outlives this command. */
const LONG_ROWS = 10_000

/** Whether a change by condition is better a job than one call that is waited for. */
export async function isLong(target: TargetClient, mapping: MappingInfo, flags: ManyFlags): Promise<boolean> {
  if (flags.images !== undefined || flags.where === undefined) return true
  // An idempotency key goes with a run; a job takes effect once whatever becomes of its caller.
  if (flags.idempotencyKey !== undefined || flags.statement) return false
  const { count = 0 } = await target.find(mapping.name, {
    where: flags.where,
    params: flags.param,
    limit: 1,
    count: 'about',
  })
  return count >= LONG_ROWS
}

/** Changes or removes all that match a condition, as a job. */
export async function changeByJob(
  context: CommandContext,
  target: TargetClient,
  mapping: MappingInfo,
  flags: ManyFlags,
  change: { values?: object; compute?: Record<string, string>; remove?: true },
  command: Command,
): Promise<void> {
  refuseFlags(flags, {
    '--idempotency-key': 'a job takes effect once, whatever becomes of this command',
    '--statement': "the job's entry in the book shows it",
  })
  const { where, everyRow, expect, images, note, rehearsal, param } = flags
  try {
    const job = await target.beginJob({
      mode: modeOf(flags),
      mapping: mapping.name,
      ...(where === undefined ? {} : { where }),
      ...(Object.keys(param).length > 0 ? { params: param } : {}),
      ...(change as { values?: Record<string, unknown> }),
      ...(everyRow ? { everyRow } : {}),
      ...(expect === undefined ? {} : { expect: (/^\d+$/.test(expect) ? Number(expect) : expect) as 'one' }),
      ...(images === undefined ? {} : { images }),
      ...(note === undefined ? {} : { note }),
      ...(rehearsal === undefined ? {} : { rehearsal }),
    })
    await followJob(context, command, job, { full: flags.full ?? false, keepWith })
  } catch (error) {
    throw inFlags(error)
  }
}

/** Applies a file of corrections, as a job. */
export async function changeFromFile(
  context: CommandContext,
  target: TargetClient,
  mapping: MappingInfo,
  words: readonly string[],
  flags: FileFlags,
  command: Command,
): Promise<void> {
  if (words.length > 0)
    throw new LedgermanProblem('request-invalid', `${words[0]} says nothing here: the file names keys and values.`, {
      where: 'words',
    })
  refuseFlags(flags, {
    '--where': 'the keys in the file find the records',
    '--by': "the file finds records by the mapping's key",
    '--compute': 'the file gives the values',
    '--param': 'there is no expression to take it',
    '--expect': 'each row of the file has to find its record',
    '--every-row': 'the file names the records',
    '--null': 'an empty field without quotes is null',
    '--merge': 'the file gives whole values',
    '--if': 'each row can have a guard of its own: --guard COLUMN',
    '--if-changed': 'a row that was changed meanwhile is told, and left',
    '--idempotency-key': 'a job takes effect once, whatever becomes of this command',
    '--statement': "the job's entry in the book shows it",
  })
  const { from, chunk, guard, onMissing, delimiter, images, note, rehearsal } = flags
  const form = flags.form ?? (/\.(ndjson|jsonl)$/i.test(from) ? 'ndjson' : 'csv')
  const query: JobFileQuery = {
    mapping: mapping.name,
    mode: modeOf(flags),
    images,
    chunk: chunk === undefined ? undefined : wholeNumber(chunk, 'chunk', 1, 100_000),
    guard,
    onMissing,
    delimiter: delimiter === '\\t' ? '\t' : (delimiter as JobFileQuery['delimiter']),
    note,
    rehearsal,
  }
  const job = await target.beginFileJob(readFile(from), form, query)
  await followJob(context, command, job, { full: flags.full ?? false, keepWith })
}

function keepWith(token: string): string {
  return `To commit exactly this: the same command with --rehearsal ${token}`
}

/** The bytes of a file, as they are read; what cannot be opened is told before anything is sent. */
function readFile(path: string): AsyncIterable<Uint8Array> {
  if (path === '-') return process.stdin
  try {
    return createReadStream(path, { fd: openSync(path, 'r') })
  } catch (error) {
    throw new LedgermanProblem('request-invalid', `${path} cannot be read: ${(error as Error).message}.`, {
      where: '--from',
    })
  }
}

/** What the service says of the body of a request, in the words of the command line. */
export function inFlags(error: unknown): unknown {
  if (isProblem(error) && error.facts['everyRow'] === true) {
    const detail = error.detail.replace('say everyRow: true', 'add --every-row')
    return new LedgermanProblem(error.code, detail, error.facts, { cause: error })
  }
  if (!isProblem(error, 'count-required')) return error
  return new LedgermanProblem(
    'count-required',
    'Say how many rows it has to match, with --expect. Or rehearse it (leave --commit out), look at what it would do, and commit exactly that with --rehearsal TOKEN.',
    { ...error.facts, where: '--expect' },
    { cause: error },
  )
}
