import { readdirSync, statSync } from 'node:fs'
import { join, relative } from 'node:path'
import { LedgermanProblem, type DefinitionsInput } from '@ledgerman/contract'
import { readText } from './read-text.js'

/**
 * Reads one definition file, or those of a folder and of the folders inside it: everything in YAML or JSON but drills, which are none.
 *
 * @throws LedgermanProblem request-invalid where nothing is there, or nothing that holds definitions.
 */
export function readDefinitionFiles(path: string): DefinitionsInput['definitions'] {
  const stat = statSync(path, { throwIfNoEntry: false })
  if (!stat) throw invalid(path, `There is no file or folder ${path}.`)
  if (stat.isDirectory()) {
    const files = findDefinitionFiles(path)
    if (files.length === 0) throw invalid(path, `There are no definitions (.yaml, .yml or .json) in ${path}.`)
    return files.map(readDefinitionFile)
  }
  if (isDrill(path))
    throw invalid(path, `${path} is a drill, which is not published. Run it: ledgerman drill --all ${path}`)
  if (!mayHoldDefinitions(path))
    throw invalid(path, `${path} is no definition file: its name ends in .yaml, .yml or .json.`)
  return [readDefinitionFile(path)]
}

function readDefinitionFile(file: string): DefinitionsInput['definitions'][number] {
  return { file, source: readText(file) }
}

function invalid(path: string, detail: string): LedgermanProblem {
  return new LedgermanProblem('request-invalid', detail, { where: path })
}

const isDrill = (file: string) => /\.drill\.ya?ml$/.test(file)

const mayHoldDefinitions = (file: string) => /\.(ya?ml|json)$/.test(file) && !isDrill(file)

/** The files of a folder, and of those inside it, that may hold definitions. */
export function findDefinitionFiles(folder: string): string[] {
  return readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile() && mayHoldDefinitions(entry.name))
    .map((entry) => join(entry.parentPath, entry.name))
    .filter(
      (file) =>
        !relative(folder, file)
          .split('/')
          .some((part) => part.startsWith('.') || part === 'node_modules'),
    )
    .sort()
}
