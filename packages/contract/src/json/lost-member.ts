/**
 * Where a member named `__proto__` was dropped as a value was checked: one of this name stays in values that are taken as they are, and is
 * lost from those whose members are looked at.
 *
 * @returns its place, such as `properties.__proto__`, with the parts of lists counted from 1; undefined where nothing was lost
 */
export function findLostMember(given: unknown, taken: unknown): string | undefined {
  if (given === null || typeof given !== 'object') return undefined
  const kept: object = taken !== null && typeof taken === 'object' ? taken : {}
  for (const [name, value] of Object.entries(given)) {
    const isKept = Object.hasOwn(kept, name)
    if (name === '__proto__' && !isKept) return name
    const lost = findLostMember(value, isKept ? kept[name as keyof typeof kept] : null)
    if (lost !== undefined) return `${Array.isArray(given) ? Number(name) + 1 : name}.${lost}`
  }
  return undefined
}

/** Whether a text may name such a member: as it is, or spelled with escapes. */
export function mayLoseMember(text: string): boolean {
  return text.includes('__proto__') || text.includes('\\')
}
