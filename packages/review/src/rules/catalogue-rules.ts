import { PASTED_NAME } from '../sql/placeholders.js'
import { suggestName, type ReviewFinding } from '@ledgerman/contract'
import { findTable, type PrepareProblem, type ReviewCatalogue, type ReviewTable } from '../catalogue.js'
import type { ColumnUse, StatementFacts, TableRef } from '../sql/statement-facts.js'
import { finding, withArticle, type Subject } from './finding.js'

/** From how many rows on reading the whole of a table is worth a word. */
const MANY_ROWS = 5_000

export interface CatalogueResult {
  findings: ReviewFinding[]
  types: string[]
  key: string[] | null
  rows: 'one' | 'many' | 'every' | null
  index: 'serves' | 'not used' | null
}

/** What a statement is against the tables it names. */
export async function catalogueFindings(subject: Subject, catalogue: ReviewCatalogue): Promise<CatalogueResult> {
  const { facts } = subject
  const result: CatalogueResult = { findings: [], types: [], key: null, rows: null, index: null }
  if (!facts) return result
  const unknown = unknownNames(subject, facts, catalogue)
  result.findings.push(...unknown)
  const table = facts.target ? findTable(catalogue, facts.target) : onlyTable(facts, catalogue)
  if (table) {
    const columns = equalColumns(facts, table)
    result.key = table.keys.find((key) => key.every((column) => columns.includes(column))) ?? null
    result.rows = facts.where === null ? 'every' : result.key ? 'one' : 'many'
    result.findings.push(
      ...keyAssigned(subject, facts, table),
      ...unguarded(subject, facts, table),
      ...castColumns(subject, facts, table),
    )
    if (result.key === null) result.findings.push(...(await notOneRow(subject, facts, table, columns, catalogue)))
  }
  result.findings.push(...notInNullable(subject, facts, catalogue))
  if (
    unknown.length === 0 &&
    catalogue.prepare &&
    ['select', 'update', 'delete', 'insert', 'merge'].includes(facts.kind) &&
    subject.others.length === 0
  ) {
    const prepared = await catalogue.prepare(subject.read.text)
    if (prepared) result.findings.push(...prepareFindings(subject, prepared.problem))
    if (prepared && !prepared.problem) {
      result.types = prepared.types
      const scanned = prepared.scanned.filter(({ rows }) => rows >= MANY_ROWS)
      result.index = scanned.length > 0 ? 'not used' : facts.where === null ? null : 'serves'
      if (facts.where !== null)
        result.findings.push(
          ...scanned.map(({ name, rows }) =>
            finding(
              subject,
              'no-index',
              'warning',
              subject.execution.place,
              `It reads the whole of ${name}, about ${rows} rows: no index serves its condition.`,
            ),
          ),
        )
    }
  }
  return result
}

function onlyTable(facts: StatementFacts, catalogue: ReviewCatalogue): ReviewTable | null {
  const [only, ...others] = facts.tables
  return only && others.length === 0 ? findTable(catalogue, only) : null
}

/** Columns of the table that the condition holds to one value each. */
function equalColumns(facts: StatementFacts, table: ReviewTable): string[] {
  const alias = facts.target?.alias ?? facts.tables[0]?.alias
  return facts.equalities
    .filter(
      ({ table: of, column, isCast }) =>
        (of === null || of === alias) && !isCast && table.columns.some(({ name }) => name === column),
    )
    .map(({ column }) => column)
}

function unknownNames(subject: Subject, facts: StatementFacts, catalogue: ReviewCatalogue): ReviewFinding[] {
  const { read } = subject
  const say = (at: number, message: string) => finding(subject, 'unknown-name', 'error', read.placeAt(at), message)
  const found = new Map<string, ReviewTable>()
  const findings: ReviewFinding[] = []
  const isOurs = (table: TableRef) =>
    table.schema === 'pg_catalog' || table.schema === 'information_schema' || table.name.startsWith('pg_')
  for (const table of facts.tables) {
    if (facts.localNames.has(table.name) || isOurs(table) || table.name.includes(PASTED_NAME)) continue
    const known = findTable(catalogue, table)
    if (known) found.set(table.alias, known)
    else {
      const names = catalogue.tables.map(({ schema, name }) => (table.schema === null ? name : `${schema}.${name}`))
      const written = table.schema === null ? table.name : `${table.schema}.${table.name}`
      findings.push(say(table.at, `There is no table ${written}. ${suggestName(written, names)}`))
    }
  }
  if (findings.length > 0) return findings
  const [only] = [...found.values()]
  const isOne = found.size === 1 && facts.localNames.size === 0 && facts.tables.length === 1
  const missing = (use: ColumnUse, table: ReviewTable) =>
    use.column.includes(PASTED_NAME) ||
    table.columns.some(({ name }) => name === use.column) ||
    use.column === table.name ||
    SYSTEM_COLUMNS.has(use.column)
      ? []
      : [
          say(
            use.at,
            `${table.name} has no column ${use.column}. ${suggestName(
              use.column,
              table.columns.map(({ name }) => name),
            )}`,
          ),
        ]
  const target = facts.target ? findTable(catalogue, facts.target) : null
  if (target) findings.push(...facts.assigned.flatMap((use) => missing(use, target)))
  for (const use of facts.columns) {
    const table = use.table === null ? (isOne ? only : undefined) : found.get(use.table)
    if (table && (use.table !== null || facts.kind !== 'insert')) findings.push(...missing(use, table))
  }
  const seen = new Set<string>()
  return findings.filter(({ message }) => !seen.has(message) && seen.add(message))
}

const SYSTEM_COLUMNS = new Set(['xmin', 'ctid', 'tableoid', 'xmax', 'cmin', 'cmax'])

async function notOneRow(
  subject: Subject,
  facts: StatementFacts,
  table: ReviewTable,
  columns: string[],
  catalogue: ReviewCatalogue,
): Promise<ReviewFinding[]> {
  // Meant for one row: it compares columns with single values, and nothing else.
  const isMeant =
    (facts.kind === 'update' || facts.kind === 'delete') &&
    !facts.hasOther &&
    columns.length > 0 &&
    table.keys.length > 0
  if (!isMeant || columns.length !== facts.equalities.length) return []
  // In a program one record is meant by a value that differs from call to call.
  const isByValue = facts.equalities.some(({ parameter }) => parameter !== null) || subject.read.pasted.length > 0
  if (!isByValue && subject.execution.language !== 'sql') return []
  const isState = columns.every(
    (column) =>
      /^(is_|has_)|status|state|active|type|kind|deleted/i.test(column) ||
      table.columns.some(({ name, type }) => name === column && /^bool/.test(type)),
  )
  if (isState) return []
  const shared = await catalogue.sharing?.(table, columns)
  const today = shared && shared.most > 1 ? ` Up to ${shared.most} rows have the same ${columns.join(', ')} today.` : ''
  const keys = table.keys
    .map((key) => key.join(', '))
    .slice(0, 3)
    .join('; or ')
  return [
    finding(
      subject,
      'not-one-row',
      'warning',
      subject.execution.place,
      `No unique key of ${table.name} is covered by ${columns.join(', ')}: it can ${facts.kind === 'update' ? 'change' : 'remove'} several rows.${today} Its keys: ${keys}.`,
    ),
  ]
}

function keyAssigned(subject: Subject, facts: StatementFacts, table: ReviewTable): ReviewFinding[] {
  return facts.assigned.flatMap(({ column, at }) => {
    const known = table.columns.find(({ name }) => name === column)
    const place = subject.read.placeAt(at)
    if (known?.generated)
      return [
        finding(
          subject,
          'key-assigned',
          'error',
          place,
          `${column} is generated from other columns, and cannot be set.`,
        ),
      ]
    if (known?.identity === 'always' && !facts.overridesIdentity)
      return [
        finding(
          subject,
          'key-assigned',
          'error',
          place,
          `${column} is an identity that is generated always, and cannot be set.`,
        ),
      ]
    if (facts.kind === 'update' && table.primaryKey?.includes(column))
      return [
        finding(
          subject,
          'key-assigned',
          'warning',
          place,
          `${column} is part of the primary key of ${table.name}: it is what other rows and programs know the record by.`,
        ),
      ]
    return []
  })
}

function unguarded(subject: Subject, facts: StatementFacts, table: ReviewTable): ReviewFinding[] {
  const { guard } = table
  if (facts.kind !== 'update' || guard === null || subject.execution.language === 'sql') return []
  const isCompared = facts.columns.some(
    ({ column, at }) => column === guard && !facts.assigned.some((use) => use.at === at) && inWhere(facts, guard),
  )
  // What is computed from the row itself overwrites nobody, and a constant says the same whoever writes it.
  const isPasted = subject.read.pasted.some(({ isQuoted }) => isQuoted) && facts.overwritten.length > 0
  if (isCompared || (facts.overwritten.length === 0 && !isPasted)) return []
  const isCounted = facts.assigned.some(({ column }) => column === guard)
  // Nobody else can have come in between, and whoever loaded it before will notice.
  if (isCounted && isLockedBefore(subject, table)) return []
  const said = isCounted
    ? `this change does not compare it with what was loaded: what somebody else saved since is overwritten.`
    : `this change neither compares it with what was loaded nor counts it up.`
  return [
    finding(
      subject,
      'unguarded-save',
      'warning',
      subject.execution.place,
      `${table.name} counts its changes in ${guard}, and ${said}`,
      `… set …, ${guard} = ${guard} + 1 where … and ${guard} = …`,
    ),
  ]
}

/** Whether the function has locked the table's row already. */
function isLockedBefore({ execution }: Subject, { name }: ReviewTable): boolean {
  return (execution.fn?.executions ?? []).some(({ at, parts }) => {
    const text = parts.map((part) => ('text' in part ? part.text : '')).join('')
    return at < execution.at && /\bfor\s+(?:no\s+key\s+)?update\b/i.test(text) && text.includes(name)
  })
}

function inWhere(facts: StatementFacts, column: string): boolean {
  return JSON.stringify(facts.where ?? {}).includes(`"sval":${JSON.stringify(column)}`)
}

function castColumns(subject: Subject, facts: StatementFacts, table: ReviewTable): ReviewFinding[] {
  return facts.castColumns.flatMap(({ column, at }) => {
    const known = table.columns.find(({ name }) => name === column)
    return known
      ? [
          finding(
            subject,
            'type-mismatch',
            'warning',
            subject.read.placeAt(at),
            `${column} is ${withArticle(known.type)}, and is cast for the comparison: no index on it serves. Cast the value instead.`,
          ),
        ]
      : []
  })
}

function notInNullable(subject: Subject, facts: StatementFacts, catalogue: ReviewCatalogue): ReviewFinding[] {
  return facts.notIn.flatMap(({ table, column, at }) => {
    const known = table === null ? null : findTable(catalogue, { schema: null, name: table })
    const isNullable = known?.columns.find(({ name }) => name === column)?.nullable
    return isNullable
      ? [
          finding(
            subject,
            'null-comparison',
            'warning',
            subject.read.placeAt(at),
            `not in matches no row where ${column} is null in one row of ${table}. Use not exists, or leave nulls out.`,
          ),
        ]
      : []
  })
}

/** What PostgreSQL said when it was asked to prepare the statement. */
function prepareFindings(subject: Subject, problem: PrepareProblem | null): ReviewFinding[] {
  // Of a name that the program puts in nobody knows whether it is there.
  if (!problem || problem.message.includes(PASTED_NAME)) return []
  const place = problem.at === null ? subject.execution.place : subject.read.placeAt(problem.at)
  const rules = {
    '42P01': 'unknown-name',
    '42703': 'unknown-name',
    '42883': 'type-mismatch',
    '42804': 'type-mismatch',
    '22P02': 'type-mismatch',
    '42846': 'type-mismatch',
  } as const
  const rule = rules[problem.code as keyof typeof rules]
  // A function that is not there is told with the same code as an operator that is not.
  if (problem.code === '42883' && problem.routine === 'ParseFuncOrColumn')
    return [finding(subject, 'unknown-name', 'error', place, sentence(problem.message))]
  if (rule) return [finding(subject, rule, 'error', place, sentence(problem.message))]
  // What depends on types that are only known when it is run says nothing.
  return /^(428C9|42P18|42P08|42725|42501|25006|57014)$/.test(problem.code)
    ? []
    : [finding(subject, 'does-not-parse', 'error', place, sentence(problem.message))]
}

function sentence(message: string): string {
  return `${message.charAt(0).toUpperCase()}${message.slice(1)}.`
}
