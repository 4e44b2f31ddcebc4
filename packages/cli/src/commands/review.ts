import { existsSync, readFileSync } from 'node:fs'
import { Option, type Command } from 'commander'
import {
  isProblem,
  LedgermanProblem,
  PLACEHOLDER_STYLES,
  type PlaceholderStyle,
  type Review,
  type ReviewLevel,
} from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { formatReview } from '../output/review-text.js'
import { fingerprint } from '../review/baseline.js'
import { loadReview } from '../review/load-review.js'
import { gatherFiles } from '../review/gather-files.js'
import { readVersion } from '../version.js'
import { replaceFile } from '../replace-file.js'

const LEVELS: readonly ReviewLevel[] = ['note', 'warning', 'error']

/** What is sent at once, in bytes of JSON: below what a service takes by itself. */
const MOST_AT_ONCE = 900_000
const EXIT_FOUND = 6

interface ReviewFlags {
  sarif?: boolean
  level: ReviewLevel
  placeholders?: PlaceholderStyle
  offline?: boolean
  catalogue?: string
  changedSince?: string
  baseline?: string
  writeBaseline?: boolean
  adopt?: string
}

export function addReview(program: Command, context: CommandContext): void {
  program
    .command('review')
    .description(
      'Review the statements in SQL files and in source code (TypeScript, JavaScript, Python, PHP, Java, C#) against the target. Nothing of them is run.',
    )
    .argument('<path...>', 'files and folders')
    .option('--sarif', 'print SARIF 2.1.0')
    .addOption(
      new Option('--level <level>', 'exit 6 where something reaches this level').choices([...LEVELS]).default('error'),
    )
    .addOption(
      new Option('--placeholders <style>', 'how placeholders are written, where the language has several').choices([
        ...PLACEHOLDER_STYLES,
      ]),
    )
    .option('--changed-since <revision>', 'only files that differ from a revision of git')
    .option('--offline', 'without a target: the rules that need none, and with --catalogue those that need tables')
    .option('--catalogue <file>', 'with --offline: what `tables --save` wrote')
    .option('--baseline <file>', 'leave out the findings that this file knows')
    .option('--write-baseline', 'with --baseline: write what is found now into it')
    .option('--adopt <dir>', 'write a transaction for each function that changes records, and check it')
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman review src --level warning\n  ledgerman review . --changed-since main --sarif > review.sarif`,
    )
    .action(async (paths: string[], flags: ReviewFlags, command: Command) => {
      checkFlags(flags)
      if (flags.offline) context.refuseTarget(command, 'with --offline no target is asked')
      const only = flags.changedSince === undefined ? undefined : await changedSince(flags.changedSince)
      const { files, skipped } = gatherFiles(paths, only)
      for (const { path, why } of skipped) context.terminal.err(`not read: ${path}: ${why}\n`)
      const review = await reviewed(context, command, files, flags)
      if (flags.adopt !== undefined) {
        const { adoptAll } = await import('../review/adopt.js')
        return adoptAll(context, command, flags.adopt, review)
      }
      const texts = new Map(files.map(({ path, text }) => [path, text.split('\n')]))
      const textOf = (path: string) => texts.get(path) ?? []
      const left = withoutKnown(review, flags, textOf)
      if (flags.sarif)
        context.terminal.out(`${JSON.stringify((await loadReview()).toSarif(left, readVersion()), null, 2)}\n`)
      else context.print(command, left, () => formatReview(left, textOf))
      const least = LEVELS.indexOf(flags.level)
      if (left.findings.some(({ level, accepted }) => accepted === undefined && LEVELS.indexOf(level) >= least))
        process.exitCode = EXIT_FOUND
    })
}

function checkFlags({ offline, catalogue, baseline, writeBaseline, adopt, sarif }: ReviewFlags): void {
  const refuse = (flag: string, why: string) => {
    throw new LedgermanProblem('request-invalid', `${flag} says nothing here: ${why}.`, { where: flag })
  }
  if (catalogue !== undefined && !offline) refuse('--catalogue', 'it goes with --offline')
  if (adopt !== undefined && (offline || sarif || baseline !== undefined))
    refuse('--adopt', 'it takes a target, and prints what it wrote')
  if (writeBaseline && baseline === undefined) refuse('--write-baseline', 'it goes with --baseline')
}

async function changedSince(revision: string): Promise<Set<string>> {
  const { changedFiles } = await loadReview()
  try {
    return await changedFiles(revision, process.cwd())
  } catch (error) {
    // What git says of it stands behind the command that node tells, in its first line.
    const { message, stderr = message } = error as Error & { stderr?: string }
    const [said = ''] = stderr.trim().split('\n')
    throw new LedgermanProblem('request-invalid', `--changed-since: git says: ${said.replace(/^fatal: /, '')}`, {
      where: '--changed-since',
    })
  }
}

async function reviewed(
  context: CommandContext,
  command: Command,
  files: { path: string; text: string }[],
  flags: ReviewFlags,
): Promise<Review> {
  const { placeholders } = flags
  if (flags.offline) {
    const { reviewFiles } = await loadReview()
    return reviewFiles(files, {
      placeholders,
      catalogue: flags.catalogue === undefined ? undefined : readCatalogue(flags.catalogue),
    })
  }
  const target = await context.target(command)
  if (files.length === 0) return NOTHING
  const parts: Review[] = []
  let done = 0
  for (const batch of inBatches(files)) {
    context.showProgress(`${(done += batch.length)} of ${files.length} files`)
    parts.push(await reviewBatch(context, target, batch, placeholders))
  }
  context.showProgress('')
  return joined(parts)
}

type Files = { path: string; text: string }[]

function inBatches(files: Files): Files[] {
  const batches: Files[] = []
  let size = Infinity
  for (const file of files) {
    const bytes = Buffer.byteLength(JSON.stringify(file))
    if (size + bytes > MOST_AT_ONCE || batches.at(-1)?.length === 1_000) {
      batches.push([])
      size = 0
    }
    batches.at(-1)?.push(file)
    size += bytes
  }
  return batches
}

/** A file that is too large for the service is read here, by what the service says of its tables. */
async function reviewBatch(
  context: CommandContext,
  target: Awaited<ReturnType<CommandContext['target']>>,
  files: Files,
  placeholders: PlaceholderStyle | undefined,
): Promise<Review> {
  try {
    return await target.review({ files, ...(placeholders === undefined ? {} : { placeholders }) })
  } catch (error) {
    if (!isProblem(error, 'too-large')) throw error
    context.showProgress('')
    for (const { path } of files)
      context.terminal.err(
        `${path}: larger than the service takes; read here, so types, plans and the rows of today were not looked at\n`,
      )
    const { reviewFiles } = await loadReview()
    const catalogue = (await target.reviewCatalogue()) as { tables: never[]; searchPath: string[] }
    return reviewFiles(files, { placeholders, catalogue })
  }
}

const NOTHING: Review = {
  statements: [],
  findings: [],
  summary: { files: 0, statements: 0, error: 0, warning: 0, note: 0, accepted: 0 },
}

function joined(parts: readonly Review[]): Review {
  let before = 0
  const findings = parts.flatMap((part) => {
    const shifted = part.findings.map((each) => ({
      ...each,
      statement: each.statement === null ? null : each.statement + before,
    }))
    before += part.statements.length
    return shifted
  })
  const sum = (name: keyof Review['summary']) => parts.reduce((total, part) => total + part.summary[name], 0)
  return {
    statements: parts.flatMap(({ statements }) => statements),
    findings,
    summary: {
      files: sum('files'),
      statements: sum('statements'),
      error: sum('error'),
      warning: sum('warning'),
      note: sum('note'),
      accepted: sum('accepted'),
    },
  }
}

function readCatalogue(path: string) {
  try {
    const read = JSON.parse(readFileSync(path, 'utf8')) as { tables: never[]; searchPath: string[] }
    if (!Array.isArray(read.tables) || !Array.isArray(read.searchPath))
      throw new Error('it is not what `tables --save` writes')
    return read
  } catch (error) {
    throw new LedgermanProblem('request-invalid', `--catalogue: ${path}: ${(error as Error).message}.`, {
      where: '--catalogue',
    })
  }
}

/** Leaves out what the baseline knows, or writes it. */
function withoutKnown(
  review: Review,
  { baseline, writeBaseline }: ReviewFlags,
  textOf: (path: string) => string[],
): Review {
  if (baseline === undefined) return review
  const prints = review.findings.map((each) => fingerprint(each, textOf))
  if (writeBaseline) replaceFile(baseline, `${[...new Set(prints)].sort().join('\n')}\n`)
  const known = new Set(existsSync(baseline) ? readFileSync(baseline, 'utf8').split('\n') : [])
  const findings = review.findings.filter((_, at) => !known.has(prints[at] ?? ''))
  const count = (level: ReviewLevel) =>
    findings.filter((each) => each.level === level && each.accepted === undefined).length
  return {
    ...review,
    findings,
    summary: { ...review.summary, error: count('error'), warning: count('warning'), note: count('note') },
  }
}
