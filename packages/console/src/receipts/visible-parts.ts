import { escapeUnseen, UNSEEN } from '@ledgerman/client'

/** A piece of a text as it is shown: its own characters, or a mark for what nobody would see. */
export interface TextPart {
  text: string
  isMark: boolean
}

const MARKS: Record<string, string> = { '\n': '↵', '\t': '⇥', '\r': '\\r', ' ': '␣' }

const UNSEEN_PART = new RegExp(`(^ +| +$|${UNSEEN})`, 'u')

/** Parts a text into what is shown as it stands, and marks for what is not: blanks at its ends and its line breaks among them. */
export function visibleParts(text: string): TextPart[] {
  return text
    .split(UNSEEN_PART)
    .map((part, at) => (at % 2 === 0 ? { text: part, isMark: false } : { text: markOf(part), isMark: true }))
    .filter((part) => part.text !== '')
}

function markOf(unseen: string): string {
  return [...unseen].map((character) => MARKS[character] ?? escapeUnseen(character)).join('')
}
