import { execFile } from 'node:child_process'
import { promisify } from 'node:util'
import { join } from 'node:path'

/**
 * The files that differ from a revision, new ones included, as absolute paths.
 *
 * @throws Error with what git says
 */
export async function changedFiles(revision: string, dir: string): Promise<Set<string>> {
  const git = async (...args: string[]) =>
    (await promisify(execFile)('git', args, { cwd: dir, maxBuffer: 64 * 1024 * 1024 })).stdout
  const root = (await git('rev-parse', '--show-toplevel')).trim()
  const changed = await git('diff', '--name-only', '-z', '--diff-filter=d', '--end-of-options', revision)
  const added = await git('ls-files', '--others', '--exclude-standard', '-z', '--full-name', root)
  return new Set([changed, added].flatMap((list) => list.split('\0').filter(Boolean)).map((path) => join(root, path)))
}
