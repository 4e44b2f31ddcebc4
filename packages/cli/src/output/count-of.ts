/** A number and what it counts: `1 file`, `2 files`. */
export function countOf(number: number, what: string): string {
  return `${number} ${what}${number === 1 ? '' : 's'}`
}
