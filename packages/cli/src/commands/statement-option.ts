import { Option } from 'commander'

/** Which form of a statement is shown: the short one, or the one that was run. */
export const STATEMENT_FORMS = ['short', 'whole'] as const
export type StatementForm = (typeof STATEMENT_FORMS)[number]

/** Of commands that run statements: whether, and in which form, they are shown. */
export function statementOption(): Option {
  return new Option(
    '--statement [form]',
    'show each statement and its binds: in short, or with =whole all that is run',
  ).choices([...STATEMENT_FORMS])
}

/** `--statement` alone means the short form, and takes no word behind it. */
export function nameStatementForm(words: readonly string[]): string[] {
  const end = words.indexOf('--')
  return words.map((word, at) => (word === '--statement' && (end < 0 || at < end) ? '--statement=short' : word))
}
