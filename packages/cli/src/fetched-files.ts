import { mkdirSync, readFileSync, statSync } from 'node:fs'
import { dirname, join } from 'node:path'
import { LedgermanProblem } from '@ledgerman/contract'
import { parse, parseAllDocuments } from 'yaml'
import { replaceFile } from './replace-file.js'
import { findDefinitionFiles } from './definition-files.js'

/** A definition as it is published. */
export interface Published {
  kind: 'mapping' | 'transaction'
  name: string
  source: string
  /** Whether a text is one that it had in an earlier revision. */
  wasEver: (text: string) => Promise<boolean>
}

interface FetchedFile {
  file: string
  state: 'new' | 'changed' | 'same'
}

/**
 * Writes published definitions into a folder: each into the file where it stands already, or one of its own. Nothing is written where
 * something would be lost.
 *
 * @throws LedgermanProblem request-invalid where a file has what was never published, unless `isOverwriting`; or where one that differs
 *   shares its file with others
 */
export async function writeFetched(
  folder: string,
  definitions: readonly Published[],
  isOverwriting: boolean,
): Promise<FetchedFile[]> {
  const there = readPlaces(folder)
  const taken = new Set([...there.values()].map(({ file }) => file.toLowerCase()))
  const placed = definitions.map((definition) => {
    const { kind, name } = definition
    const place = there.get(`${kind} ${name}`)
    const file = place?.file ?? freeFile(join(folder, `${kind}s`), name, taken)
    return { definition, file, before: place?.text ?? readIfThere(file), isShared: place?.isShared === true }
  })
  const changed = placed.filter(({ definition, before, isShared }) =>
    isShared ? !saysTheSame(before ?? '', definition.source) : before !== undefined && before !== definition.source,
  )
  const shared = changed.find(({ isShared }) => isShared)
  if (shared)
    throw refused(
      shared.file,
      `${shared.definition.name} is published otherwise, and stands there with others. Give each a file of its own, then fetch again.`,
    )
  if (!isOverwriting)
    for (const { definition, file, before } of changed)
      if (!(await definition.wasEver(before ?? '')))
        throw refused(file, `it has changes that were never published. Publish them, or give --overwrite to lose them.`)
  return placed.map(({ definition: { source }, file, before, isShared }) => {
    if (isShared || before === source) return { file, state: 'same' }
    mkdirSync(dirname(file), { recursive: true })
    replaceFile(file, source)
    return { file, state: before === undefined ? 'new' : 'changed' }
  })
}

/** Of one that stands with others only the words count: how it is set out is the file's. */
function saysTheSame(one: string, other: string): boolean {
  return JSON.stringify(parse(one, { version: '1.2' })) === JSON.stringify(parse(other, { version: '1.2' }))
}

function refused(file: string, message: string): LedgermanProblem {
  return new LedgermanProblem('request-invalid', `Nothing was written: ${file}: ${message}`, { where: file })
}

/** Where each definition of a folder stands, by its kind and name. What cannot be read is nobody's place. */
function readPlaces(folder: string): Map<string, { file: string; text: string; isShared: boolean }> {
  const places = new Map<string, { file: string; text: string; isShared: boolean }>()
  if (!statSync(folder, { throwIfNoEntry: false })?.isDirectory()) return places
  for (const file of findDefinitionFiles(folder)) {
    const source = readFileSync(file, 'utf8')
    const documents = parseAllDocuments(source, { version: '1.2' })
    for (const document of 'empty' in documents ? [] : documents) {
      const kind = (['transaction', 'mapping'] as const).find((each) => document.has(each))
      if (kind === undefined || document.errors.length > 0) continue
      const isShared = documents.length > 1
      places.set(`${kind} ${String(document.get(kind))}`, {
        file,
        text: isShared ? String(document) : source,
        isShared,
      })
    }
  }
  return places
}

/** `hoursTransfer` as `hours-transfer.yaml`; another where that is another definition's, also where case is all that tells files apart. */
function freeFile(inside: string, name: string, taken: Set<string>): string {
  const plain = name.replace(/(?<=[\p{Ll}\p{N}])\p{Lu}/gu, (letter) => `-${letter.toLowerCase()}`)
  let file = join(inside, `${plain}.yaml`)
  for (let number = 2; taken.has(file.toLowerCase()); number++) file = join(inside, `${plain}-${number}.yaml`)
  taken.add(file.toLowerCase())
  return file
}

function readIfThere(file: string): string | undefined {
  return statSync(file, { throwIfNoEntry: false }) ? readFileSync(file, 'utf8') : undefined
}
