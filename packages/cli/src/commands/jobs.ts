import { Option, type Command } from 'commander'
import colors from 'picocolors'
import { JOB_STATES, type JobState } from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { formatJob, formatJobs } from '../output/job-text.js'
import { wholeNumber } from '../whole-number.js'
import { followJob } from './follow-job.js'

export function addJobs(program: Command, context: CommandContext): void {
  const jobs = program.command('jobs').description('Changes of many records: those that wait, run, or are over.')

  jobs
    .command('list')
    .description('List jobs, the newest first.')
    .addOption(new Option('--state <state>', 'only those in one state').choices(JOB_STATES))
    .option('--limit <jobs>', 'at most 200', '20')
    .option('--after <job>', 'the next page: the last job of the page before')
    .action(async ({ state, limit, after }: { state?: JobState; limit: string; after?: string }, command: Command) => {
      const { target } = command.optsWithGlobals<{ target?: string }>()
      const page = await context.client().jobs({ target, state, after, limit: wholeNumber(limit, 'limit', 1, 200) })
      context.print(command, page, () =>
        page.jobs.length === 0
          ? 'There are no such jobs.'
          : `${formatJobs(page.jobs)}${page.next === null ? '' : `\n${colors.dim(`More: --after ${page.next}`)}`}`,
      )
    })

  jobs
    .command('show')
    .description('Show a job: how far it is, or what became of it.')
    .argument('<job>')
    .option('--full', 'show all rows of the report and whole values')
    .action(async (id: string, { full = false }: { full?: boolean }, command: Command) => {
      const job = await context.client().job(id)
      context.print(command, job, () => {
        const problem = job.problem ? `\n\n${colors.red(job.problem.code)}: ${job.problem.detail}` : ''
        return `${formatJob(job, full)}${problem}`
      })
    })

  jobs
    .command('follow')
    .description('Follow a job to its end. Stopping to follow does not stop it.')
    .argument('<job>')
    .option('--full', 'show all rows of the report and whole values')
    .action(async (id: string, options: { full?: boolean }, command: Command) =>
      followJob(context, command, await context.client().job(id), options),
    )

  jobs
    .command('cancel')
    .description('Cancel a job: what is under way is rolled back.')
    .argument('<job>')
    .action(async (id: string, _options: unknown, command: Command) => {
      const job = await context.client().cancelJob(id)
      context.print(command, job, () =>
        job.state === 'cancelled'
          ? 'Cancelled before it began.'
          : `Its end is asked for; ledgerman jobs show ${id} tells what it left.`,
      )
    })

  jobs
    .command('resume')
    .description('Have a job go on that failed or was cancelled: behind the last chunk that was committed.')
    .argument('<job>')
    .option('--full', 'show all rows of the report and whole values')
    .action(async (id: string, options: { full?: boolean }, command: Command) =>
      followJob(context, command, await context.client().resumeJob(id), options),
    )

  jobs
    .command('failed-rows')
    .description('Print the rows of a file that were not applied, in the form they came in, each with its reason.')
    .argument('<job>')
    .addHelpText('after', '\nExample:\n  ledgerman jobs failed-rows 01a2173a-6e68-73c8-a4c1-8698cf72421a > left.csv')
    .action(async (id: string) => {
      for await (const text of context.client().failedRows(id)) await context.write(text)
    })
}
