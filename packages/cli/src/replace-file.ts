import { chmodSync, realpathSync, renameSync, rmSync, statSync, writeFileSync } from 'node:fs'

/**
 * Writes a file as a whole or leaves what was there, whether the disk is full or the program is ended: written beside it first, and then put in
 * its place.
 */
export function replaceFile(file: string, text: string): void {
  const there = statSync(file, { throwIfNoEntry: false })
  // What is no file, such as a pipe, has no place that another could take.
  if (there && !there.isFile()) return writeFileSync(file, text)
  const place = there ? realpathSync(file) : file
  const beside = `${place}.${process.pid}.new`
  try {
    writeFileSync(beside, text, { flush: true })
    if (there) chmodSync(beside, there.mode)
    renameSync(beside, place)
  } catch (error) {
    rmSync(beside, { force: true })
    throw error
  }
}
