import { readFileSync } from 'node:fs'
import { LedgermanClient } from '@ledgerman/client'
import { LedgermanProblem } from '@ledgerman/contract'
import type { Command } from 'commander'
import type { CommandContext } from '../command-context.js'
import { assertAddress, loginFile, saveLogin } from '../connection.js'
import { sendRequest } from '../http/send-request.js'

export function addLogin(program: Command, context: CommandContext): void {
  program
    .command('login')
    .description('Keep the address of a service and a token for later commands.')
    .argument('[url]', 'where the service is', 'http://127.0.0.1:4680')
    .option(
      '--token-file <file>',
      'read the token from a file; otherwise it comes from LEDGERMAN_TOKEN or standard input',
    )
    .addHelpText(
      'after',
      `\nExamples:\n  ledgerman login http://127.0.0.1:4680 --token-file .ledgerman/admin-token\n  ledgerman login < token.txt`,
    )
    .action(async (url: string, options: { tokenFile?: string }, command: Command) => {
      context.refuseTarget(command, 'a login is to a service; LEDGERMAN_TARGET names a target for later commands')
      const { env } = context.terminal
      assertAddress(url, 'url')
      const token = (
        options.tokenFile !== undefined
          ? readTokenFile(options.tokenFile)
          : (env['LEDGERMAN_TOKEN'] ?? (await readStdin()))
      ).trim()
      if (token === '')
        throw new LedgermanProblem('request-invalid', 'No token came: give --token-file FILE, or pipe it in.', {
          where: 'token',
        })
      const file = loginFile(env)
      if (file === undefined)
        throw new LedgermanProblem('request-invalid', 'There is no home to keep it in: set HOME, or XDG_CONFIG_HOME.', {
          where: 'HOME',
        })
      const caller = await new LedgermanClient({ url, token, fetch: sendRequest }).session()
      saveLogin(file, { url, token })
      context.print(
        command,
        { url, ...caller },
        () => `Signed in to ${url} as ${caller.actor} (${caller.role}). Kept in ${file}.`,
      )
    })
}

function readTokenFile(path: string): string {
  try {
    return readFileSync(path, 'utf8')
  } catch (error) {
    throw new LedgermanProblem('request-invalid', `The token file cannot be read: ${(error as Error).message}.`, {
      where: 'token-file',
    })
  }
}

async function readStdin(): Promise<string> {
  if (process.stdin.isTTY) process.stderr.write('Token: ')
  const chunks: Buffer[] = []
  for await (const chunk of process.stdin) {
    chunks.push(chunk as Buffer)
    if (process.stdin.isTTY) break
  }
  return Buffer.concat(chunks).toString()
}
