/** A whole answer as the only part of a stream. */
export async function* oneChunk<T>(whole: T): AsyncGenerator<T> {
  yield await Promise.resolve(whole)
}
