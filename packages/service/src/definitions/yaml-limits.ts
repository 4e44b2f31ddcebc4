/** How long a definition may be, in characters, and how deep it may be nested: far more than a person writes. */
const LONGEST = 200_000
const DEEPEST = 50
/** How many lines, lists, maps and commas it may have: each is some 20 µs of the parser. */
const MOST_PARTS = 5_000
/** How many lines that name something it may have in one block, with what stands above it: no table has as many columns. */
const MOST_NAMES = 2_000

/** A line of a block that has a name before its colon, and is no item of a list. */
const NAMES = /^ *[^\s#?-][^:]*:(?:\s|$)/

/**
 * Looks at YAML once, line by line, before it is parsed: a parser goes into every level that it is given.
 *
 * @returns what is too much, and in which line; undefined where nothing is
 */
export function findYamlLimit(source: string): { line: number; message: string } | undefined {
  if (source.length > LONGEST)
    return { line: 1, message: `expected at most ${LONGEST} characters, got ${source.length}` }
  const tooDeep = `expected at most ${DEEPEST} levels, one inside the other`
  const blocks: { indent: number; names: number }[] = []
  let brackets = 0
  let line = 1
  let parts = 0
  for (const text of source.split('\n')) {
    const indent = /^[ ]*/.exec(text)?.[0].length ?? 0
    if (indent < text.trimEnd().length) {
      while ((blocks.at(-1)?.indent ?? -1) > indent) blocks.pop()
      if (blocks.at(-1)?.indent !== indent) blocks.push({ indent, names: 0 })
      const block = blocks.at(-1)
      if (block && NAMES.test(text) && ++block.names > MOST_NAMES)
        return { line, message: `expected at most ${MOST_NAMES} members` }
    }
    // "- - - a" opens a level with each sign.
    const signs = /^(?:[ \t]*[-?:](?=[ \t]))*/.exec(text)?.[0].match(/[-?:]/g)?.length ?? 0
    for (const sign of text) {
      if (sign === '[' || sign === '{' || sign === ',') parts++
      if (sign === '[' || sign === '{') brackets++
      else if ((sign === ']' || sign === '}') && brackets > 0) brackets--
      if (brackets > DEEPEST) return { line, message: tooDeep }
    }
    if (blocks.length + signs > DEEPEST) return { line, message: tooDeep }
    if (++parts > MOST_PARTS) return { line, message: `expected at most ${MOST_PARTS} lines, lists and parts of lists` }
    line++
  }
  return undefined
}
