import { distance } from 'fastest-levenshtein'

/** Nobody mistypes a name longer than this one, and comparing it would take its time. */
const LONGEST = 200

/**
 * The known name closest to a mistyped one by Levenshtein distance, or undefined where none is close: at most a third of
 * its letters, and at least one, may differ. Letter case does not count.
 */
export function findNearestName(typed: string, known: Iterable<string>): string | undefined {
  if (typed.length > LONGEST) return undefined
  let nearest: string | undefined
  let least = Math.max(1, Math.floor(typed.length / 3)) + 1
  for (const name of known) {
    const apart = distance(typed.toLowerCase(), name.toLowerCase())
    if (apart < least) [nearest, least] = [name, apart]
  }
  return nearest
}

/** `Did you mean hoursLeft?` and the like: the sentence behind one that names what is not known. */
export function suggestName(typed: string, known: Iterable<string>): string {
  const names = [...known]
  const nearest = findNearestName(typed, names)
  if (nearest !== undefined) return `Did you mean ${nearest}?`
  return names.length === 0
    ? 'There are none.'
    : `Valid names: ${names.slice(0, 12).join(', ')}${names.length > 12 ? ', …' : '.'}`
}
