import { setImmediate } from 'node:timers/promises'
import type { PlaceholderStyle, Review, ReviewedStatement, ReviewFinding } from '@ledgerman/contract'
import type { ReviewCatalogue } from './catalogue.js'
import { NAMELESS, type Execution, type FunctionFacts } from './extract/facts.js'
import { languageOf } from './extract/grammar.js'
import type { SourceReader } from './extract/read-source.js'
import { accepted } from './acceptances.js'
import { catalogueFindings } from './rules/catalogue-rules.js'
import { finding, type Subject } from './rules/finding.js'
import { ParameterNames } from './parameter-names.js'
import { flowFindings, scriptFindings, setsLimits } from './rules/flow-rules.js'
import { statementFindings } from './rules/statement-rules.js'
import { ReadingThread } from './thread/reading-thread.js'
import { readText } from './sql/placeholders.js'
import { loadSqlGrammar, parseStatements } from './sql/statement-facts.js'

export interface SourceFile {
  path: string
  text: string
}

export interface ReviewOptions {
  catalogue?: ReviewCatalogue | undefined
  placeholders?: PlaceholderStyle | undefined
  /** Who reads source code; by default a thread that ends with the review. */
  read?: SourceReader | undefined
  /** Ends it between two statements. */
  signal?: AbortSignal | undefined
}

/** What is larger is not read: a generated file, or no source at all. */
const LARGEST_FILE = 4 * 1024 * 1024
const LONGEST_LINE = 200_000
const LONGEST_STATEMENT = 100_000
/** After how many statements others have their turn. */
const BETWEEN_BREAKS = 10

/** Reads the statements out of files, and says what is wrong with them. */
export async function reviewFiles(files: readonly SourceFile[], options: ReviewOptions = {}): Promise<Review> {
  await loadSqlGrammar()
  const statements: ReviewedStatement[] = []
  const findings: ReviewFinding[] = []
  const own = new ReadingThread()
  const read = options.read ?? own.read
  try {
    for (const file of files) await reviewFile(file, { ...options, read }, statements, findings)
  } finally {
    await own.close()
  }
  const count = (level: string) => findings.filter((each) => each.level === level && each.accepted === undefined).length
  return {
    statements,
    findings,
    summary: {
      files: files.length,
      statements: statements.length,
      error: count('error'),
      warning: count('warning'),
      note: count('note'),
      accepted: findings.filter((each) => each.accepted !== undefined).length,
    },
  }
}

async function reviewFile(
  { path, text }: SourceFile,
  options: ReviewOptions & { read: SourceReader },
  statements: ReviewedStatement[],
  findings: ReviewFinding[],
): Promise<void> {
  const note = (message: string) =>
    findings.push(
      finding(
        { path, index: null },
        'does-not-parse',
        'note',
        { line: 1, column: 1, endLine: 1, endColumn: 1 },
        message,
      ),
    )
  const language = languageOf(path)
  if (!language) return void note('It is in none of the languages that are read.')
  if (text.includes('\0')) return void note('It is no text, and was not read.')
  if (text.length > LARGEST_FILE || longestLine(text) > LONGEST_LINE)
    return void note('It is too large, or has lines that are too long, and was not read.')
  if (language === 'sql' && OTHER_DIALECT.test(text))
    return void note('It is written for another database, and was not checked.')
  const read = await options.read(language, text)
  if (!read) return void note('It took too long or too much memory to parse, and was not read.')
  const subjects: Subject[] = []
  const own: ReviewFinding[] = []
  const namesOf = new Map<FunctionFacts, ParameterNames>()
  for (const [at, execution] of read.executions.entries()) {
    if (at % BETWEEN_BREAKS === 0) await setImmediate()
    options.signal?.throwIfAborted()
    const subject = toSubject(path, execution, options, statements.length, own)
    if (!subject) continue
    subjects.push(subject)
    own.push(...statementFindings(subject))
    const seen = options.catalogue ? await catalogueFindings(subject, options.catalogue) : undefined
    own.push(...(seen?.findings ?? []))
    if (seen) subject.key = seen.key
    const { fn } = execution
    const names = fn ? (namesOf.get(fn) ?? new ParameterNames()) : new ParameterNames()
    if (fn) namesOf.set(fn, names)
    statements.push(toStatement(subject, seen, read.functions, names))
  }
  const byFunction = new Map<FunctionFacts, Subject[]>()
  for (const subject of subjects) {
    const fn = subject.execution.fn ?? read.file
    const known = fn && byFunction.get(fn)
    if (known) known.push(subject)
    else if (fn) byFunction.set(fn, [subject])
  }
  const hasLimits = setsLimits(text)
  for (const [fn, ofFunction] of byFunction) {
    for (const each of flowFindings(fn, ofFunction, hasLimits)) own.push(each)
    await setImmediate()
  }
  if (language === 'sql') own.push(...scriptFindings(subjects, hasLimits))
  const told = accepted(withoutDoubles(own), text)
  told.sort((one, other) => one.line - other.line || one.column - other.column)
  for (const each of told) findings.push(each)
}

/** What PostgreSQL has not, and other databases write all the time. */
const OTHER_DIALECT =
  /`\w+`|\bauto_?increment\b|\bengine\s*=|\[dbo\]|^[ \t]*delimiter\s|\bvarchar2\b|\bnvarchar\b|\bunsigned\b|\bnomaxvalue\b|^\/$|\balter\s+table\s+[\w"]+\s+(?:change|modify)\s|\binterval\s+\d+\s+(?:second|minute|hour|day|week|month|year)\b|\bdate_sub\s*\(/im

/** Names and words of other databases, in a statement that PostgreSQL does not take. */
const OTHER_NAMES =
  /\bsqlite_master\b|\bpragma_\w+|\bsys(?:objects|users|columns|indexes|obj)\b|\bsys\.\w+|\b(?:user|all|dba)_(?:tables|constraints|cons_columns|tab_columns|objects|indexes|ind_columns)\b|\bvarchar\s*\(\s*max\s*\)|\bnchar_cs\b|\bregexp\b|\bon\s+duplicate\s+key\b|@@\w+|\bfrom\s+dual\b|\bdbms_\w+|\breplace\s+into\b|\binsert\s+(?:or|ignore)\b|\bselect\s+top\s+\d|\bnolock\b|\bas\s+'[^']*'\s*(?:,|from\b)/i

/** A statement as PostgreSQL reads it, or what keeps it from being one. */
function toSubject(
  path: string,
  execution: Execution,
  { placeholders }: ReviewOptions,
  index: number,
  findings: ReviewFinding[],
): Subject | undefined {
  const read = readText(execution, placeholders)
  if (read.text.length > LONGEST_STATEMENT) {
    const message = `It is longer than ${LONGEST_STATEMENT} characters, and was not checked.`
    findings.push(finding({ path, index: null }, 'does-not-parse', 'note', execution.place, message))
    return undefined
  }
  const first = parseStatements(read.text)
  const second = 'problem' in first && read.asNames !== read.text ? parseStatements(read.asNames) : first
  const parsed = 'statements' in second ? second : first
  if ('statements' in parsed) {
    const isNamed = parsed === second && second !== first
    const all = parsed.statements.filter(({ kind }) => kind !== 'transaction' || parsed.statements.length > 1)
    const [facts = parsed.statements[0], ...others] = all
      .filter(({ kind }) => kind !== 'transaction')
      .concat(all.filter(({ kind }) => kind === 'transaction'))
    if (!facts) return undefined
    const shorter = shorterOf(execution, placeholders)
    return { path, execution, read: isNamed ? { ...read, text: read.asNames } : read, facts, others, shorter, index }
  }
  const subject: Subject = { path, execution, read, facts: undefined, others: [], index }
  if (/`\w*`/.test(read.text) || OTHER_DIALECT.test(read.text) || OTHER_NAMES.test(read.text))
    findings.push(
      finding(
        subject,
        'does-not-parse',
        'note',
        execution.place,
        "It is written in another database's SQL, and was not checked.",
      ),
    )
  else if (read.pasted.length > 0)
    findings.push(
      finding(
        subject,
        'does-not-parse',
        'note',
        execution.place,
        'What it is put together from is only known when it runs, so its text cannot be checked.',
      ),
    )
  else {
    const { message, at } = parsed.problem
    findings.push(
      finding(subject, 'does-not-parse', 'error', read.placeAt(at), `PostgreSQL does not take it: ${message}.`),
    )
  }
  return subject
}

/** The statement as it is on those ways through the program on which nothing is added to it. */
function shorterOf({ parts, language }: Execution, placeholders: PlaceholderStyle | undefined): Subject['shorter'] {
  const left = parts.find(({ sometimes }) => sometimes)
  if (!left) return undefined
  const read = parseStatements(
    readText({ parts: parts.filter(({ sometimes }) => !sometimes), language }, placeholders).text,
  )
  const [facts, ...others] = 'statements' in read ? read.statements : []
  return facts && others.length === 0 ? { facts, place: left.place } : undefined
}

function toStatement(
  { path, execution, read, facts }: Subject,
  seen: Awaited<ReturnType<typeof catalogueFindings>> | undefined,
  functions: readonly FunctionFacts[],
  names: ParameterNames,
): ReviewedStatement {
  const numbers = [...new Set([...read.placeholders.map(({ number }) => number), ...(facts?.parameters ?? [])])].sort(
    (one, other) => one - other,
  )
  const tables = facts?.tables.filter(({ name }) => !facts.localNames.has(name)) ?? []
  const isEvery = facts?.where === null && (facts.kind === 'update' || facts.kind === 'delete')
  return {
    path,
    line: execution.place.line,
    column: execution.place.column,
    language: execution.language,
    function: functionName(execution, functions),
    text: read.text.trim(),
    kind: facts?.kind ?? 'unknown',
    tables: [...new Set(tables.map(({ schema, name }) => (schema === null ? name : `${schema}.${name}`)))],
    key: seen?.key ?? null,
    params: numbers.map((number) => ({
      name: names.of(number, { execution, read, facts }),
      type: seen?.types[number - 1] ?? null,
    })),
    rows: seen?.rows ?? (isEvery ? 'every' : null),
    index: seen?.index ?? null,
  }
}

/** A function's name, with its line where a file has several of that name, or it has none. */
function functionName({ fn }: Execution, functions: readonly FunctionFacts[]): string | null {
  if (!fn) return null
  if (fn.name === NAMELESS) return `function on line ${fn.place.line}`
  return functions.some((other) => other !== fn && other.name === fn.name)
    ? `${fn.name} on line ${fn.place.line}`
    : fn.name
}

/** One thing is said once at a place, by the rule that says more. */
function withoutDoubles(findings: readonly ReviewFinding[]): ReviewFinding[] {
  const seen = new Set<string>()
  return findings.filter((each) => {
    const key = `${each.rule} ${each.line}:${each.column} ${each.message}`
    if (seen.has(key)) return false
    seen.add(key)
    return true
  })
}

function longestLine(text: string): number {
  let longest = 0
  for (let from = 0, to = text.indexOf('\n'); from <= text.length; from = to + 1, to = text.indexOf('\n', from)) {
    if (to < 0) return Math.max(longest, text.length - from)
    longest = Math.max(longest, to - from)
  }
  return longest
}
