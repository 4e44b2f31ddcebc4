/** Where an entry of a target's book stands in the interface. */
export function entryAddress(target: string, id: string): string {
  return `/v1/targets/${encodeURIComponent(target)}/entries/${id}`
}
