/**
 * Where a text in double quotes ends in which a backslash stands before what is meant as it is, as in JSON and PostgreSQL's arrays. A pattern would
 * remember each backslash, of which V8 takes some millions.
 *
 * @param at the place of its first quote
 * @returns that of its last; -1 where it has none
 */
export function quotedEnd(text: string, at: number): number {
  for (let end = text.indexOf('"', at + 1); end >= 0; end = text.indexOf('"', end + 1)) {
    let before = end
    while (before > at + 1 && text[before - 1] === '\\') before--
    if ((end - before) % 2 === 0) return end
  }
  return -1
}
