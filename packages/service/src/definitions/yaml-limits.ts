/** How long a definition may be, in characters, and how deep it may be nested: far more than a person writes. */
const LONGEST = 200_000
const DEEPEST = 50
/** How many lines, lists, maps and commas it may have: each is some 20 µs of the parser. */
const MOST_PARTS = 5_000

/**
 * Looks at YAML once, line by line, before it is parsed: a parser goes into every level that it is given.
 *
 * @returns what is too much, and in which line; undefined where nothing is
 */
export function findYamlLimit(source: string): { line: number; message: string } | undefined {
  if (source.length > LONGEST)
    return { line: 1, message: `expected at most ${LONGEST} characters, got ${source.length}` }
  const tooDeep = `expected at most ${DEEPEST} levels, one inside the other`
  const indents: number[] = []
  let brackets = 0
  let line = 1
  let parts = 0
  for (const text of source.split('\n')) {
    const indent = /^[ ]*/.exec(text)?.[0].length ?? 0
    if (indent < text.trimEnd().length) {
      while ((indents.at(-1) ?? -1) >= indent) indents.pop()
      indents.push(indent)
    }
    // "- - - a" opens a level with each sign.
    const signs = /^(?:[ \t]*[-?:](?=[ \t]))*/.exec(text)?.[0].match(/[-?:]/g)?.length ?? 0
    for (const sign of text) {
      if (sign === '[' || sign === '{' || sign === ',') parts++
      if (sign === '[' || sign === '{') brackets++
      else if ((sign === ']' || sign === '}') && brackets > 0) brackets--
      if (brackets > DEEPEST) return { line, message: tooDeep }
    }
    if (indents.length + signs > DEEPEST) return { line, message: tooDeep }
    if (++parts > MOST_PARTS) return { line, message: `expected at most ${MOST_PARTS} lines, lists and parts of lists` }
    line++
  }
  return undefined
}
