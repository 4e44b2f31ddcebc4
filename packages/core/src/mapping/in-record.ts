import type { RecordValues } from '@ledgerman/contract'

/** What names a record, in a sentence: `telescope HF1, night 2026-01-10`. */
export function namesInWords(names: RecordValues): string {
  return Object.entries(names)
    .map(([name, value]) => `${name} ${String(value)}`)
    .join(', ')
}

/** What is said of one record among several, with what names it behind. */
export function inRecord(words: string, names: RecordValues): string {
  const named = namesInWords(names)
  const end = words.endsWith('.') ? '.' : ''
  return named === '' ? words : `${words.slice(0, words.length - end.length)} (${named})${end}`
}
