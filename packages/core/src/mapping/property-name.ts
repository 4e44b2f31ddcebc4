/** A column's or table's name in camelCase: `hours_left` → `hoursLeft`, `Größe (m²)` → `größeM`, `2nd` → `_2nd`. */
export function toPropertyName(name: string): string {
  const words = name.match(/\p{Lu}?[\p{Ll}\p{M}\p{Lo}\p{Nd}]+|(?<!\p{Lu})\p{Lu}+(?!\p{Ll})|\p{Nd}+/gu) ?? []
  const camel = words
    .map((word, at) => (at === 0 ? word.toLowerCase() : word.charAt(0).toUpperCase() + word.slice(1).toLowerCase()))
    .join('')
    .replace(/[^\p{L}\p{N}_]/gu, '')
  if (camel === '') return 'column'
  return /^\p{N}/u.test(camel) ? `_${camel}` : camel
}

/** Takes a name that is free: the one given, or with the first number behind it that makes it differ from all the taken ones. */
export function takeName(name: string, taken: Set<string>): string {
  let free = name
  for (let number = 2; taken.has(free); number++) free = `${name}${number}`
  taken.add(free)
  return free
}
