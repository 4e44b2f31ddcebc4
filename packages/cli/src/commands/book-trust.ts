import { readFileSync } from 'node:fs'
import colors from 'picocolors'
import type { Command } from 'commander'
import { LedgermanProblem, parseJson, type Seal, type Verification } from '@ledgerman/contract'
import type { CommandContext } from '../command-context.js'
import { formatTable } from '../output/table.js'

/** How many findings are shown. */
const SHOWN_FINDINGS = 20

/** Whether the book is what it was: seals, verification, proofs. */
export function addBookTrust(book: Command, context: CommandContext): void {
  book
    .command('seal')
    .description('Seal the book now, and print the seal. Kept elsewhere, it shows later whether the book was altered.')
    .option('--last', 'print the last seal, and make none')
    .addHelpText('after', `\nExample:\n  ledgerman book seal --json > seal.json`)
    .action(async ({ last }: { last?: boolean }, command: Command) => {
      const { book } = await context.target(command)
      const seal = last ? await book.seal() : await book.sealNow()
      context.print(command, seal, () => formatSeal(seal))
    })

  book
    .command('key')
    .description('Print the public key that seals are checked with (PEM).')
    .action(async (_options: unknown, command: Command) => {
      const key = await (await context.target(command)).book.key()
      context.print(command, { key }, () => key.trimEnd())
    })

  book
    .command('verify')
    .description(
      'Compare the whole book with what was sealed, and name every entry that was altered. Exit 1 where one was.',
    )
    .option('--seal <file>', 'also with a seal that was kept elsewhere')
    .addHelpText('after', `\nExamples:\n  ledgerman book verify\n  ledgerman book verify --seal seal.json`)
    .action(async ({ seal }: { seal?: string }, command: Command) => {
      const { book } = await context.target(command)
      const found = await book.verify(seal === undefined ? {} : { seal: readJson(seal, '--seal') as Seal })
      context.print(command, found, () => formatVerification(found))
      if (!found.ok) process.exitCode = 1
    })

  book
    .command('prove')
    .description('Print what shows, without service or database, that an entry is under the last seal (JSON).')
    .argument('<entry>')
    .addHelpText('after', `\nExample:\n  ledgerman book prove 01a21778-33f2-744c-ae50-596560d6ef34 > proof.json`)
    .action(async (entry: string, _options: unknown, command: Command) => {
      const proof = await (await context.target(command)).book.proof(entry)
      context.terminal.out(`${JSON.stringify(proof, null, 2)}\n`)
    })

  book
    .command('check-proof')
    .description(
      'Check a proof against a public key. Needs neither service nor database. Exit 1 where it does not hold.',
    )
    .argument('<file>', 'as book prove printed it')
    .requiredOption('--key <file>', 'the public key, as book key printed it')
    .addHelpText('after', `\nExample:\n  ledgerman book check-proof proof.json --key key.pem`)
    .action(async (file: string, { key }: { key: string }, command: Command) => {
      context.refuseTarget(command, 'a proof is checked without one')
      const { readProof } = await import('../read-proof.js')
      const { proof, why } = readProof(readJson(file, 'file'), readText(key, '--key'))
      context.print(command, { ok: why === null, because: why, entry: proof.entry['id'], seal: proof.seal }, () =>
        why === null
          ? `${colors.green('proven')}: the entry ${String(proof.entry['id'])} is under the seal of ${proof.seal.at}, over ${proof.seal.entries} ${proof.seal.entries === 1 ? 'entry' : 'entries'}.`
          : `${colors.red('not proven')}: ${why}`,
      )
      if (why !== null) process.exitCode = 1
    })
}

function readText(path: string, where: string): string {
  try {
    return readFileSync(path === '-' ? 0 : path, 'utf8')
  } catch (error) {
    throw new LedgermanProblem('request-invalid', `${where}: ${path} cannot be read: ${(error as Error).message}.`, {
      where,
    })
  }
}

function readJson(path: string, where: string): unknown {
  const text = readText(path, where)
  try {
    return parseJson(text)
  } catch (error) {
    throw new LedgermanProblem('request-invalid', `${where}: ${path} is not JSON: ${(error as Error).message}`, {
      where,
    })
  }
}

function formatSeal({ entries, root, at, key, signature }: Seal): string {
  return formatTable(
    ['', ''],
    [
      ['entries', String(entries)],
      ['root', root],
      ['at', at],
      ['key', key],
      ['signature', signature],
    ],
  ).trimStart()
}

function formatVerification({ ok, entries, pruned, unsealed, seal, findings, count }: Verification): string {
  const facts = [
    `${entries} ${entries === 1 ? 'entry' : 'entries'} compared`,
    ...(pruned > 0 ? [`${pruned} pruned`] : []),
    ...(unsealed > 0 ? [`${unsealed} not sealed yet`] : []),
    seal === null ? 'no seal yet' : `last seal of ${seal.at.slice(0, 19)}Z over ${seal.entries}`,
  ].join(', ')
  if (ok) return `${colors.green('nothing was altered')}: ${facts}`
  const shown = findings.slice(0, SHOWN_FINDINGS)
  const more =
    count > shown.length ? `\n${colors.dim(`${count - shown.length} more: --json has the first thousand`)}` : ''
  const rows = shown.map(({ entry, what, detail }) => [entry ?? '–', colors.red(what), detail])
  return `${colors.red(`${count} ${count === 1 ? 'finding' : 'findings'}`)}: ${facts}\n\n${formatTable(['entry', 'what', ''], rows)}${more}`
}
