import { readdirSync, readFileSync, statSync } from 'node:fs'
import { join, relative } from 'node:path'
import { LedgermanProblem, type DefinitionsInput } from '@ledgerman/contract'

/**
 * Reads the definition files of a folder, and of those inside it: everything in YAML or JSON but drills, which are none.
 *
 * @throws LedgermanProblem request-invalid where there is no such folder, or nothing in it.
 */
export function readDefinitionFiles(folder: string): DefinitionsInput['definitions'] {
  if (!statSync(folder, { throwIfNoEntry: false })?.isDirectory())
    throw new LedgermanProblem('request-invalid', `${folder} is no folder.`, { where: folder })
  const files = findDefinitionFiles(folder)
  if (files.length === 0)
    throw new LedgermanProblem('request-invalid', `There are no definitions (.yaml, .yml or .json) in ${folder}.`, {
      where: folder,
    })
  return files.map((file) => ({ file, source: readFileSync(file, 'utf8') }))
}

/** The files of a folder, and of those inside it, that may hold definitions. */
export function findDefinitionFiles(folder: string): string[] {
  return readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile() && /\.(ya?ml|json)$/.test(entry.name) && !/\.drill\.ya?ml$/.test(entry.name))
    .map((entry) => join(entry.parentPath, entry.name))
    .filter(
      (file) =>
        !relative(folder, file)
          .split('/')
          .some((part) => part.startsWith('.') || part === 'node_modules'),
    )
    .sort()
}
