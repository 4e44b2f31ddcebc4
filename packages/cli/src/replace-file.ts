import { chmodSync, realpathSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs'

/**
 * Writes a file as a whole or leaves what was there, whether the disk is full or the program is ended: written beside it first, and then put in
 * its place.
 *
 * @param mode who may read and write it, where that is not as it was
 */
export function replaceFile(file: string, text: string, mode?: number): void {
  const there = statSync(file, { throwIfNoEntry: false })
  // What is no file, such as a pipe, has no place that another could take.
  if (there && !there.isFile()) return writeFileSync(file, text)
  const place = there ? realpathSync(file) : file
  const beside = `${place}.${process.pid}.new`
  try {
    writeFileSync(beside, text, { flush: true, ...(mode === undefined ? {} : { mode }) })
    const wanted = mode ?? there?.mode
    if (wanted !== undefined) chmodSync(beside, wanted)
    renameSync(beside, place)
  } catch (error) {
    rmSync(beside, { force: true })
    throw error
  }
}
