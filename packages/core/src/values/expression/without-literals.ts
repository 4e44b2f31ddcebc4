import { readTokens, type Token } from './tokens.js'

/**
 * An expression as it may be kept where one of its values must not be shown: an ellipsis in place of each text, number and truth value.
 *
 * @throws LedgermanProblem where it cannot be read
 */
export function withoutLiterals(source: string): string {
  const tokens = readTokens(source)
  const parts = tokens.map((token, at) => {
    const part = source.slice(token.at, tokens[at + 1]?.at)
    return isLiteral(token) ? part.replace(part.trimEnd(), () => '…') : part
  })
  return source.slice(0, tokens[0]?.at) + parts.join('')
}

function isLiteral({ kind, text }: Token): boolean {
  return kind === 'text' || kind === 'number' || (kind === 'name' && /^(?:true|false)$/i.test(text))
}
