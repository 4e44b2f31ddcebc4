import type { Command } from 'commander'
import type { CommandContext } from '../command-context.js'
import { formatExplained } from '../output/explained-text.js'
import { formatAsOf } from '../output/history-text.js'
import { formatRecord } from '../output/record-text.js'
import { readMoment } from '../read-moment.js'
import { styleOption } from './style-option.js'
import { refuseFlags } from './write-flags.js'

export function addLoad(program: Command, context: CommandContext): void {
  program
    .command('load')
    .description('Load one record by its key.')
    .argument('<mapping>')
    .argument('<key...>', 'the key values, in key order')
    .option('--by <properties>', 'another unique key than that of the mapping, such as email')
    .option('--explain', 'show how it would be loaded, without loading it')
    .addOption(styleOption())
    .option('--as-of <moment>', 'as it was then, out of the book: 2026-02-03 or 2026-02-03T21:00:00Z', readMoment)
    .option('--full', 'show whole values')
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman load programme P-107\n  ledgerman load programme P-107 --as-of 2026-02-03T21:00:00Z\n  ledgerman load calibration HF1 2026-02-03 flat\n  ledgerman load observer --by email tomas.okafor@harrowfell.example`,
    )
    .action(
      async (
        name: string,
        words: string[],
        flags: { by?: string; explain?: boolean; asOf?: string; full?: boolean },
        command: Command,
      ) => {
        const target = await context.target(command)
        if (flags.asOf !== undefined) {
          refuseFlags(flags, {
            '--by': "it was found by the mapping's key then",
            '--explain': 'it comes out of the book',
          })
          const was = await target.loadAsOf(name, words, flags.asOf)
          return context.print(command, was, () => formatAsOf(was, flags.full ? Infinity : context.terminal.width))
        }
        if (flags.explain) {
          const explained = await target.explainLoad(name, words, flags.by)
          return context.print(command, explained, () => formatExplained(explained))
        }
        const loaded = await target.load(name, words, flags.by)
        const width = flags.full ? Infinity : context.terminal.width
        context.print(command, loaded, () => formatRecord(loaded, width))
      },
    )
}
