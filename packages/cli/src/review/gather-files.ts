import { lstatSync, readdirSync, readFileSync, realpathSync, statSync } from 'node:fs'
import { join, relative } from 'node:path'
import { LedgermanProblem } from '@ledgerman/contract'

const READ = /\.(sql|ts|mts|cts|tsx|js|mjs|cjs|jsx|py|php|java|cs)$/i

/** Folders with code of others, or that was made. */
const SKIPPED = new Set([
  'node_modules',
  '.git',
  'vendor',
  'dist',
  'build',
  'target',
  '.venv',
  'venv',
  '__pycache__',
  'bin',
  'obj',
])

/** What is larger is a file that was generated, or none of source. */
const LARGEST_FILE = 4 * 1024 * 1024

export interface Gathered {
  files: { path: string; text: string }[]
  /** What was not read, and why. */
  skipped: { path: string; why: string }[]
}

/**
 * Reads the files that are named, and those in the folders that are, in order. Links to folders are not followed.
 *
 * @param only leaves out all but these absolute paths
 * @throws LedgermanProblem request-invalid where nothing of that name is there
 */
export function gatherFiles(paths: readonly string[], only?: ReadonlySet<string>): Gathered {
  const gathered: Gathered = { files: [], skipped: [] }
  for (const path of paths) {
    let isFolder: boolean
    try {
      isFolder = statSync(path).isDirectory()
    } catch (error) {
      throw new LedgermanProblem('request-invalid', `${path} cannot be read: ${(error as Error).message}.`, {
        where: 'path',
      })
    }
    if (isFolder) walk(path, gathered, only)
    else read(path, gathered, only)
  }
  return gathered
}

function walk(dir: string, gathered: Gathered, only: ReadonlySet<string> | undefined): void {
  let names: string[]
  try {
    names = readdirSync(dir).sort()
  } catch (error) {
    gathered.skipped.push({ path: dir, why: (error as Error).message })
    return
  }
  for (const name of names) {
    const path = join(dir, name)
    const found = lstatSync(path, { throwIfNoEntry: false })
    if (found?.isDirectory() && !SKIPPED.has(name)) walk(path, gathered, only)
    else if (found && !found.isDirectory() && READ.test(name)) read(path, gathered, only)
  }
}

function read(path: string, { files, skipped }: Gathered, only: ReadonlySet<string> | undefined): void {
  try {
    if (only && !only.has(realpathSync(path))) return
    if (!statSync(path).isFile()) return void skipped.push({ path, why: 'it is no file' })
    if (statSync(path).size > LARGEST_FILE) return void skipped.push({ path, why: 'it is larger than 4 MiB' })
    const bytes = readFileSync(path)
    if (bytes.includes(0)) return void skipped.push({ path, why: 'it is no text' })
    files.push({ path: relative('.', path) || path, text: decode(bytes) })
  } catch (error) {
    skipped.push({ path, why: (error as Error).message })
  }
}

/** UTF-8, with or without a mark of it; else a byte a character, so that columns still fit. */
function decode(bytes: Buffer): string {
  try {
    return new TextDecoder('utf-8', { fatal: true }).decode(bytes)
  } catch {
    return bytes.toString('latin1')
  }
}
