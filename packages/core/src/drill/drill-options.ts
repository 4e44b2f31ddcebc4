/** Who is told how far a drill is, and what stops it. */
export interface DrillOptions {
  signal?: AbortSignal | undefined
  onProgress?: ((done: number, total: number, what: string) => void) | undefined
}
