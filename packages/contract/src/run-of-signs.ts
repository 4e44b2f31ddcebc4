/** No operator of PostgreSQL's has more characters (NAMEDATALEN - 1), and nobody opens as many comments in a row. */
const MOST = 63

/**
 * Whether a statement has so many signs in a row that PostgreSQL's scanner takes seconds to read it. It takes a run of signs for one operator
 * (`scan.l`, "operator" and "xcstart"), finds that it is a plus, or opens a comment, and reads the rest again: the square of their number.
 */
export function hasRunOfSigns(sql: string): boolean {
  for (const [run] of sql.matchAll(/[-+*/<>=~!@#%^&|`?]{64,}/g)) {
    const again = run.split(/\+|\/\*/).length - 1
    if (again > MOST) return true
  }
  return false
}
