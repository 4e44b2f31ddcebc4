import { distance } from 'fastest-levenshtein'

/** Nobody mistypes a name longer than this one, and comparing it would take its time. */
const LONGEST = 200

/** Of longer names, letters that stand the wrong way round are not looked for: each pair is a comparison of its own. */
const LONGEST_SWAPPED = 40

/**
 * The known name closest to a mistyped one by Levenshtein distance, or undefined where none is close: at most a third of
 * its letters, and at least one, may differ. Two neighbours that stand the wrong way round are one mistake. Letter case does
 * not count.
 */
export function findNearestName(typed: string, known: Iterable<string>): string | undefined {
  if (typed.length > LONGEST) return undefined
  let nearest: string | undefined
  let least = Math.max(1, Math.floor(typed.length / 3)) + 1
  const meant = typed.toLowerCase()
  const swapped = swappedOnce(meant)
  for (const name of known) {
    const other = name.toLowerCase()
    let apart = distance(meant, other)
    // What stands the wrong way round counts as two.
    if (apart >= 2 && apart <= least) for (const each of swapped) apart = Math.min(apart, distance(each, other) + 1)
    // Of two as close, the one that was only not finished.
    const isSame = apart === least && nearest !== undefined
    if (apart < least || (isSame && other.startsWith(meant) && !nearest?.toLowerCase().startsWith(meant)))
      [nearest, least] = [name, apart]
  }
  return nearest
}

/** A name with each two neighbours the other way round. */
function swappedOnce(name: string): string[] {
  if (name.length > LONGEST_SWAPPED) return []
  return Array.from(
    { length: Math.max(0, name.length - 1) },
    (_, at) => name.slice(0, at) + name.charAt(at + 1) + name.charAt(at) + name.slice(at + 2),
  )
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
