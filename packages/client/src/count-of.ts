/** A number and what it counts: `1 file`, `2 files`, `2 entries`. */
export function countOf(number: number, what: string, several = `${what}s`): string {
  return `${number} ${number === 1 ? what : several}`
}
