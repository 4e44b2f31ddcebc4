/** An ISO 8601 instant as a person reads it in a table, to the second. */
export function formatInstant(at: string): string {
  return `${at.slice(0, 10)} ${at.slice(11, 19)}`
}
