const MOST_NAMED = 5

/** Names in a note: the first few, and how many more there are. */
export function someNames(names: readonly string[]): string {
  const named = names.slice(0, MOST_NAMED).join(', ')
  return names.length > MOST_NAMED ? `${named} and ${names.length - MOST_NAMED} more` : named
}
