/** An expression with its literals taken out: what is the same for all that differ in nothing else. */
export interface LiteralShape {
  shape: string
  /** Those that were taken out, in order, and where each stands. */
  literals: { at: number; text: string }[]
}

/** Longer ones are not asked for again and again with other values. */
const LONGEST = 2_000

/** Texts, names, parameters and numbers, as `readTokens` tells them apart. */
const WORDS = /'(?:[^']|'')*'|"(?:[^"]|"")+"|:?[\p{L}_][\p{L}\p{N}_]*|(?:\d+(?:\.\d*)?|\.\d+)(?:[eE][+-]?\d+)?/gu

/**
 * Takes out the literals of which only the kind decides what an expression means: whole numbers of 32 bits, texts that are no list and no bytes, and
 * of those the ones that begin like a date apart. All others stay.
 *
 * @returns null where nothing can be taken out, or the text is none that can be read
 */
export function literalShape(source: string): LiteralShape | null {
  if (source.length > LONGEST || /\0|\p{Surrogate}/u.test(source)) return null
  const literals: LiteralShape['literals'] = []
  const shape = source.replace(WORDS, (word: string, at: number) => {
    const isText = word.startsWith("'")
    const text = isText ? word.slice(1, -1).replaceAll("''", "'") : word
    const kind = isText ? kindOfText(text) : /^\d{1,9}$/.test(word) ? 'number' : null
    if (kind === null) return word
    literals.push({ at, text })
    return `\0${kind}\0`
  })
  return literals.length === 0 ? null : { shape, literals }
}

function kindOfText(text: string): 'moment' | 'text' | null {
  if (/^\d+[-:]\d/.test(text)) return 'moment'
  return /^[^\s\d[{\\]/.test(text) ? 'text' : null
}
