import {
  checkInput,
  describeIssues,
  findLostMember,
  LedgermanProblem,
  mappingDefinition,
  mayLoseMember,
  RawJson,
  transactionDefinition,
  type DefinitionKind,
  type MappingDefinition,
  type TransactionDefinition,
} from '@ledgerman/contract'
import { findYamlLimit } from './yaml-limits.js'
import { isNode, isScalar, LineCounter, parseAllDocuments, visit, type Document } from 'yaml'

/** One thing wrong with a definition, and where it stands. */
export interface SourceFinding {
  /** The file as the caller named it; null where it named none. */
  file: string | null
  line: number | null
  column: number | null
  /** The place in the definition, such as `properties.title.column`. */
  where: string
  message: string
}

/** A definition as it was written, checked in its form, with the way back to its lines. */
export type ReadDefinition = { file: string | null; source: string; locate: Locate } & (
  | { kind: 'mapping'; name: string; definition: MappingDefinition }
  | { kind: 'transaction'; name: string; definition: TransactionDefinition }
)

/** The line and column of a place in a definition (parts of a list counted from 1), `offset` characters into its text. */
export type Locate = (where: string, offset?: number) => { line: number | null; column: number | null }

/** Reads the definitions in a text: YAML 1.2, which JSON is a part of, one or several documents. */
export function readDefinitions(
  source: string,
  file: string | null,
): { definitions: ReadDefinition[]; findings: SourceFinding[] } {
  const limit = findYamlLimit(source)
  if (limit)
    return {
      definitions: [],
      findings: [{ file, line: limit.line, column: 1, where: `line ${limit.line}`, message: limit.message }],
    }
  const lines = new LineCounter()
  // Its own look at keys that are there twice takes the square of their number.
  const documents = parseAllDocuments(source, { version: '1.2', lineCounter: lines, uniqueKeys: false })
  const definitions: ReadDefinition[] = []
  const findings: SourceFinding[] = []
  const list = 'empty' in documents ? [] : documents
  if (list.length === 0)
    findings.push({ file, line: 1, column: 1, where: '', message: 'expected a definition, got nothing' })
  for (const document of list) {
    const locate = locator(document, lines)
    const [error] = document.errors
    if (error) {
      const [start] = error.linePos ?? []
      const message = `the YAML cannot be read: ${error.message.split('\n')[0]?.replace(/ at line \d.*$/, '')}`
      const where = start ? `line ${start.line}, column ${start.col}` : ''
      findings.push({ file, line: start?.line ?? null, column: start?.col ?? null, where, message })
      continue
    }
    const read = check(document, source, file, locate, lines)
    if (Array.isArray(read)) findings.push(...read)
    else definitions.push({ ...read, source: list.length === 1 ? source : String(document) })
  }
  return { definitions, findings }
}

function check(
  document: Document,
  source: string,
  file: string | null,
  locate: Locate,
  lines: LineCounter,
): ReadDefinition | SourceFinding[] {
  const wrong = lookedThrough(document)
  if (wrong) {
    const { line, col } = lines.linePos(wrong.at)
    return [{ file, line, column: col, where: `line ${line}, column ${col}`, message: wrong.message }]
  }
  const value = document.toJS({ maxAliasCount: 0 }) as unknown
  const kind = kindOf(value)
  if (kind === undefined)
    return [
      { file, ...locate(''), where: '', message: 'expected a definition that begins with mapping: or transaction:' },
    ]
  const checked = checkInput<MappingDefinition | TransactionDefinition>(
    kind === 'mapping' ? mappingDefinition : transactionDefinition,
    value,
  )
  if (!checked.success)
    return describeIssues(checked.error, value).map(({ where, message }, at) => {
      // A member that nobody knows stands where it is written, not where what has it begins.
      const issue = checked.error.issues[at]
      const unknown = issue?.code === 'unrecognized_keys' ? issue.keys.slice(0, 1) : []
      const place = locate([...(where === '' ? [] : [where]), ...unknown].join('.'))
      return { file, ...place, where, message }
    })
  const lost = mayLoseMember(source) ? findLostMember(value, checked.data) : undefined
  if (lost !== undefined) {
    return [
      { file, ...locate(lost), where: lost, message: 'expected another name: __proto__ is none that can be kept' },
    ]
  }
  if (kind === 'mapping') {
    const definition = checked.data as MappingDefinition
    return { kind, name: definition.mapping, definition, file, source, locate }
  }
  const definition = checked.data as TransactionDefinition
  return { kind, name: definition.transaction, definition, file, source, locate }
}

/** Keeps each number as it is written that a double cannot hold so. @returns an alias, or a key that a map has twice, and where it stands */
function lookedThrough(document: Document): { message: string; at: number } | undefined {
  let found: { message: string; at: number } | undefined
  visit(document, {
    Alias(_, { source, range }) {
      found = { message: `*${source} is an alias; a definition says everything where it stands`, at: range?.[0] ?? 0 }
      return visit.BREAK
    },
    Map(_, { items }) {
      const names = new Set<string>()
      for (const { key } of items) {
        if (!isScalar(key)) continue
        const name = String(key.value)
        if (names.has(name)) found = { message: `${name} is there twice`, at: key.range?.[0] ?? 0 }
        if (found) return visit.BREAK
        names.add(name)
      }
      return undefined
    },
    Scalar(_, node) {
      const { source } = node
      if (
        typeof node.value === 'number' &&
        source !== undefined &&
        source !== String(node.value) &&
        /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(source)
      )
        node.value = new RawJson(source)
    },
  })
  return found
}

function kindOf(value: unknown): DefinitionKind | undefined {
  if (value === null || typeof value !== 'object' || Array.isArray(value)) return undefined
  return 'mapping' in value && 'table' in value
    ? 'mapping'
    : 'transaction' in value
      ? 'transaction'
      : 'mapping' in value
        ? 'mapping'
        : undefined
}

function locator(document: Document, lines: LineCounter): Locate {
  return (where, offset = 0) => {
    const path = where === '' ? [] : where.split('.').map((part) => (/^\d+$/.test(part) ? Number(part) - 1 : part))
    // What is missing has no place of its own: the nearest part around it stands for it.
    for (let length = path.length; length >= 0; length--) {
      const node = length === 0 ? document.contents : document.getIn(path.slice(0, length), true)
      if (!isNode(node) || !node.range) continue
      const isWhole = length === path.length && isScalar(node)
      const quote = isScalar(node) && /^QUOTE_/.test(node.type ?? '') ? 1 : 0
      const isBlock = isScalar(node) && /^BLOCK_/.test(node.type ?? '')
      const { line, col } = lines.linePos(node.range[0] + (isWhole && !isBlock ? offset + (offset > 0 ? quote : 0) : 0))
      return { line, column: col }
    }
    return { line: 1, column: 1 }
  }
}

/** Whether it says a line, which stands before it already. */
const isPlace = (where: string): boolean => /^line \d/.test(where)

/** The problem for definitions that were refused: everything found, file and line first. */
export function definitionsRefused(findings: readonly SourceFinding[]): LedgermanProblem {
  const words = findings.map(
    ({ file, line, column, where, message }) =>
      `${[file, line, column].filter((part) => part !== null).join(':')}${file !== null || line !== null ? ' ' : ''}${where && !isPlace(where) ? `${where}: ` : ''}${message}`,
  )
  const [first] = findings
  return new LedgermanProblem('definition-invalid', words.join('\n'), {
    ...(first ? { where: first.where, line: first.line, column: first.column, file: first.file } : {}),
    findings,
  })
}
