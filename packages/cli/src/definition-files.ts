import { mkdirSync, readdirSync, readFileSync, statSync, writeFileSync } from 'node:fs'
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
  const files = readdirSync(folder, { recursive: true, withFileTypes: true })
    .filter((entry) => entry.isFile() && /\.(ya?ml|json)$/.test(entry.name) && !/\.drill\.ya?ml$/.test(entry.name))
    .map((entry) => join(entry.parentPath, entry.name))
    .filter(
      (file) =>
        !relative(folder, file)
          .split('/')
          .some((part) => part.startsWith('.') || part === 'node_modules'),
    )
    .sort()
  if (files.length === 0)
    throw new LedgermanProblem('request-invalid', `There are no definitions (.yaml, .yml or .json) in ${folder}.`, {
      where: folder,
    })
  return files.map((file) => ({ file, source: readFileSync(file, 'utf8') }))
}

/** Writes definitions into a folder, a file each. @returns what became of each file. */
export function writeDefinitionFiles(
  folder: string,
  definitions: readonly { kind: string; name: string; source: string }[],
): { file: string; state: 'new' | 'changed' | 'same' }[] {
  return definitions.map(({ kind, name, source }) => {
    const inside = join(folder, `${kind}s`)
    mkdirSync(inside, { recursive: true })
    const file = join(inside, `${toFileName(name)}.yaml`)
    const before = statSync(file, { throwIfNoEntry: false }) ? readFileSync(file, 'utf8') : undefined
    if (before !== source) writeFileSync(file, source)
    return { file, state: before === undefined ? 'new' : before === source ? 'same' : 'changed' }
  })
}

/** `hoursTransfer` as `hours-transfer`, so that names that differ in case alone do not meet in one file. */
function toFileName(name: string): string {
  return name.replace(/(?<=[\p{Ll}\p{N}])\p{Lu}/gu, (letter) => `-${letter.toLowerCase()}`)
}
