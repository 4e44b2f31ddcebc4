import { readdirSync, statSync } from 'node:fs'
import { basename, join } from 'node:path'
import {
  checkInput,
  definitionName,
  describeIssues,
  sayIssue,
  drillInput,
  LedgermanProblem,
  PROBLEM_CODES,
  type DrillReport,
  type DrillRequest,
} from '@ledgerman/contract'
import { parse } from 'yaml'
import { z } from 'zod'
import { readText } from '../read-text.js'

const count = z.int().min(0)

/** What a drill kept in a file is expected to come to. What is not said is: nothing wrong is found. */
const expectation = z.strictObject({
  anomalies: z
    .union([z.array(z.string()), z.record(z.string(), z.array(z.string()))])
    .optional()
    .describe('The names of the anomalies that are found: of all levels together, or by isolation level.'),
  outcomes: z
    .record(z.string(), z.enum(['committed', ...PROBLEM_CODES]))
    .optional()
    .describe('What the caller is told, by the name of the fault or its beginning.'),
  agrees: z.boolean().optional().describe('Of a fault drill. Default true.'),
  kept: z.boolean().optional().describe('Of a race: whether every invariant holds. Default true.'),
  committed: z.union([count, z.strictObject({ least: count.optional(), most: count.optional() })]).optional(),
  refusals: z
    .array(z.enum(PROBLEM_CODES))
    .optional()
    .describe('Of a race: the only codes that runs may be refused with.'),
})

const drillFile = z.looseObject({
  drill: z.union([definitionName, z.string().regex(/^[\p{L}_][\p{L}\p{N}_-]*$/u)]),
  summary: z.string().optional(),
  expect: expectation.optional(),
})

export type DrillExpectation = z.output<typeof expectation>

/** A drill that is kept beside the definitions, with what it expects. */
export interface KeptDrill {
  file: string
  name: string
  request: DrillRequest
  expect: DrillExpectation
}

/**
 * Reads the drills of a folder and those inside it, or of one file: `NAME.drill.yaml`.
 *
 * @throws LedgermanProblem request-invalid with the file and what is wrong in it.
 */
export function readDrillFiles(place: string): KeptDrill[] {
  const info = statSync(place, { throwIfNoEntry: false })
  if (!info) throw new LedgermanProblem('request-invalid', `There is no ${place}.`, { where: place })
  const files = info.isDirectory()
    ? readdirSync(place, { recursive: true, withFileTypes: true })
        .filter((entry) => entry.isFile() && /\.drill\.ya?ml$/.test(entry.name))
        .map((entry) => join(entry.parentPath, entry.name))
        .sort()
    : [place]
  if (files.length === 0)
    throw new LedgermanProblem('request-invalid', `There are no drills (NAME.drill.yaml) in ${place}.`, {
      where: place,
    })
  return files.map(readDrillFile)
}

function readDrillFile(file: string): KeptDrill {
  const refuse = (words: string) => new LedgermanProblem('request-invalid', `${file}: ${words}`, { where: file })
  const text = readText(file)
  let content: unknown
  try {
    content = parse(text, { version: '1.2' })
  } catch (error) {
    throw refuse((error as Error).message)
  }
  const head = checkInput(drillFile, content)
  if (!head.success) throw refuse(issuesOf(head.error, content))
  const { drill: name, summary: _, expect = {}, ...request } = head.data
  const checked = checkInput(drillInput, request)
  if (!checked.success) throw refuse(issuesOf(checked.error, request))
  if (basename(file).replace(/\.drill\.ya?ml$/, '') !== name) throw refuse(`it is named ${name}, and its file is not.`)
  return { file, name, request: request as unknown as DrillRequest, expect }
}

function issuesOf(error: z.ZodError, input: unknown): string {
  return describeIssues(error, input).map(sayIssue).join('; ')
}

/** What is not as it was expected, in words; empty where all is. */
export function unmetExpectations(report: DrillReport, expect: DrillExpectation): string[] {
  const unmet: string[] = []
  const say = (fits: boolean, words: string) => void (fits || unmet.push(words))
  if (report.notRun !== null) return [`not drilled: ${report.notRun}`]
  switch (report.kind) {
    case 'interleaving': {
      const found = (level?: string) =>
        names(report.results.filter(({ isolation }) => level === undefined || isolation === level))
      const expected = expect.anomalies ?? []
      if (Array.isArray(expected))
        say(isSameSet(found(), expected), `expected ${list(expected)}, found ${list(found())}`)
      else
        for (const { isolation } of report.results) {
          const wanted = expected[isolation] ?? []
          say(
            isSameSet(found(isolation), wanted),
            `expected ${list(wanted)} at ${isolation}, found ${list(found(isolation))}`,
          )
        }
      break
    }
    case 'fault':
      for (const [begin, outcome] of Object.entries(expect.outcomes ?? {})) {
        const meant = report.results.filter(({ fault }) => fault.startsWith(begin))
        say(meant.length > 0, `no fault begins with "${begin}"`)
        for (const { fault, outcome: told } of meant)
          say(told === outcome, `${fault}: expected ${outcome}, was told ${told}`)
      }
      say(
        report.passed === (expect.agrees ?? true),
        report.passed ? 'everything agrees, and was not expected to' : disagreeing(report),
      )
      break
    case 'race': {
      const broken = report.kept.filter(({ held }) => !held)
      say(
        report.passed === (expect.kept ?? true),
        report.passed
          ? 'every invariant held, and was not expected to'
          : broken.map(({ expression, message }) => `${expression} ${message}`).join('; '),
      )
      const { committed = {}, refusals } = expect
      const { least = 0, most = Infinity } =
        typeof committed === 'number' ? { least: committed, most: committed } : committed
      say(
        report.committed >= least && report.committed <= most,
        `${report.committed} of ${report.times} runs were committed`,
      )
      const others = Object.keys(report.refusals).filter((code) => refusals && !refusals.includes(code as never))
      say(others.length === 0, `runs were refused with ${others.join(', ')}`)
    }
  }
  return unmet
}

function names(results: Extract<DrillReport, { kind: 'interleaving' }>['results']): string[] {
  return [...new Set(results.flatMap(({ anomalies }) => anomalies.map(({ name }) => name)))].sort()
}

function disagreeing({ results }: Extract<DrillReport, { kind: 'fault' }>): string {
  return results
    .filter(({ agrees }) => !agrees)
    .map(({ fault, message }) => `${fault}: ${message}`)
    .join('; ')
}

function isSameSet(one: readonly string[], other: readonly string[]): boolean {
  return [...new Set(one)].sort().join('\n') === [...new Set(other)].sort().join('\n')
}

function list(found: readonly string[]): string {
  return found.length === 0 ? 'no anomaly' : found.join(', ')
}
