/** A duration as receipts tell it: milliseconds, to a tenth. */
export function roundMs(ms: number): number {
  return Math.round(ms * 10) / 10
}
