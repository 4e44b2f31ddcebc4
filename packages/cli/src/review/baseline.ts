import type { ReviewFinding } from '@ledgerman/contract'

/** What a finding is known by though lines move: its rule, its file, and the line's own text. */
export function fingerprint({ rule, path, line }: ReviewFinding, textOf: (path: string) => string[]): string {
  const text = textOf(path)[line - 1]?.replace(/\s+/g, ' ').trim() ?? ''
  // Loaded here: it is what takes longest of all that Node would load for a command that never needs it.
  const { createHash } = process.getBuiltinModule('node:crypto')
  return `${rule} ${path} ${createHash('sha256').update(text).digest('hex').slice(0, 16)}`
}
