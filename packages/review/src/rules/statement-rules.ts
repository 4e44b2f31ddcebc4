import { PASTED_NAME } from '../sql/placeholders.js'
import type { ReviewFinding } from '@ledgerman/contract'
import type { Bound, Execution } from '../extract/facts.js'
import type { Placeholder } from '../sql/placeholders.js'
import { finding, type Subject } from './finding.js'

/** What can be said of a statement by its text alone. */
export function statementFindings(subject: Subject): ReviewFinding[] {
  return [everyRow, pastedValues, parameterCount, nullComparison, transactionInside].flatMap((rule) => rule(subject))
}

function everyRow(subject: Subject): ReviewFinding[] {
  const { facts, execution } = subject
  const all = [facts, ...subject.others].flatMap((each) => (each ? [each, ...each.inner] : []))
  return all.flatMap((each) => {
    if (!each.target || (each.kind !== 'update' && each.kind !== 'delete')) return []
    const verb = each.kind === 'update' ? 'changes' : 'removes'
    if (each.where === null)
      return [
        finding(
          subject,
          'every-row',
          'error',
          execution.place,
          `It ${verb} every row of ${nameOf(each.target)}: it has no condition.`,
          `… where …`,
        ),
      ]
    if (each.isAlwaysTrue)
      return [
        finding(
          subject,
          'every-row',
          'error',
          execution.place,
          `It ${verb} every row of ${nameOf(each.target)}: its condition is true of each.`,
        ),
      ]
    return each === facts ? withoutCondition(subject, each.target, verb) : []
  })
}

/** A condition that is put together on some ways only: on the others there is none. */
function withoutCondition(subject: Subject, target: { name: string }, verb: string): ReviewFinding[] {
  const { shorter, facts } = subject
  if (!shorter || shorter.facts.kind !== facts?.kind) return []
  if (shorter.facts.where !== null && !shorter.facts.isAlwaysTrue) return []
  return [
    finding(
      subject,
      'every-row',
      'warning',
      shorter.place,
      `It ${verb} every row of ${nameOf(target)} where this condition is left out.`,
    ),
  ]
}

/** A table's name; of one that the program puts in as it runs there is none. */
function nameOf({ name }: { name: string }): string {
  return name.includes(PASTED_NAME) ? 'a table' : name
}

function pastedValues(subject: Subject): ReviewFinding[] {
  const { read, execution } = subject
  const seen = new Set<string>()
  return read.pasted.flatMap(({ value, how, place, isQuoted, isName, isFragment, safe }) => {
    const short = value.length > 40 ? `${value.slice(0, 40)}…` : value
    const key = `${place.line}:${place.column}`
    if (seen.has(key) || safe === 'name' || isHarmless(value)) return []
    seen.add(key)
    const words = {
      interpolation: 'put into the text',
      concatenation: 'put together with the text',
      format: 'formatted into the text',
    }[how]
    // What is made a number on the spot is one; of a name one only knows that it is no text.
    if (safe === 'number' && !isQuoted)
      return /^[$\w.]+$/.test(value)
        ? [
            finding(
              subject,
              'value-in-text',
              'note',
              place,
              `${short} is ${words}. It is a number, so it does no harm; bound as a parameter, one statement serves for all.`,
              withPlaceholders(execution, subject),
            ),
          ]
        : []
    if (isFragment)
      return [
        finding(
          subject,
          'value-in-text',
          'note',
          place,
          `${short} is ${words} as a part of the statement: what it holds is only known when it runs.`,
        ),
      ]
    // Where a table's or column's name stands, no parameter can.
    if (isName && !isQuoted) {
      if (isOwnName(value)) return []
      return [
        finding(
          subject,
          'value-in-text',
          // A list of columns that the program puts together is mostly its own.
          /\b(?:join|implode)\(/.test(value) ? 'note' : 'warning',
          place,
          `${short} is ${words}, as a name: choose it from a list that the program has, and quote it.`,
        ),
      ]
    }
    if (safe === 'quoted' || /(quote|escape|literal|addslashes|qstr)\w*\s*\(/i.test(value))
      return [
        finding(
          subject,
          'value-in-text',
          'warning',
          place,
          `${short} is quoted and ${words}. Bind it as a parameter.`,
          withPlaceholders(execution, subject),
        ),
      ]
    return [
      finding(
        subject,
        'value-in-text',
        'error',
        place,
        `${short} is ${words}. Bind it as a parameter.`,
        withPlaceholders(execution, subject),
      ),
    ]
  })
}

/** Numbers and constants of the program's own, and placeholders that are put together. */
function isHarmless(value: string): boolean {
  return (
    /^[A-Z][A-Z0-9_]*$/.test(value) ||
    /quote_?(?:name|ident)/i.test(value) ||
    /^(?:\w+\.)?(?:Identifier|Placeholder|Literal|SQL|Composed)\(/.test(value) ||
    /placeholder|qmark|question_?mark|^\d+$|\.map\(.*\$|repeat\(|"\?"|'\?'|%s|count\(|\bparseInt\(|^intval\(|^int\(|^\(int\)|^Number\(|\.length\b|^len\(|\bnow\(\)|^\$now$/i.test(
      value,
    )
  )
}

/** What a program keeps the names of its tables in. */
function isOwnName(value: string): boolean {
  return /table|prefix|schema|ident|quote_?name|->\w+$|^self\.|^this\.|^cls\./i.test(value)
}

/** The statement with placeholders of the file's own style. */
function withPlaceholders(execution: Execution, { read }: Subject): string | null {
  const { language, parts } = execution
  const style =
    read.placeholders[0]?.style ??
    (/^pg_|^fetch/.test(execution.method) ? 'dollar' : undefined) ??
    { python: 'percent', php: 'question', java: 'question', csharp: 'at' }[language as string] ??
    'dollar'
  let number = read.placeholders.length
  const text = parts
    .map((part) => {
      if ('text' in part) return part.text
      number++
      return (
        {
          percent: '%s',
          'percent-named': `%(v${number})s`,
          question: '?',
          colon: `:v${number}`,
          at: `@v${number}`,
          dollar: `$${number}`,
        }[style as string] ?? `$${number}`
      )
    })
    .join('')
    .replace(/'((?:%s|%\(\w+\)s|\?|:v\d+|@v\d+|\$\d+))'/g, '$1')
  return text.length > 2_000 ? null : text.trim()
}

function parameterCount(subject: Subject): ReviewFinding[] {
  const { read, execution, facts } = subject
  const { bound } = execution
  const { placeholders } = read
  // What was pasted in may hold placeholders itself.
  if (bound.kind === 'unknown' || execution.language === 'sql' || read.pasted.length > 0 || read.hasBuiltPlaceholders)
    return []
  if (bound.kind === 'none' && !isRun(execution)) return []
  const place = 'place' in bound ? bound.place : execution.place
  const say = (message: string, instead: string | null = null) => [
    finding(subject, 'parameter-count', 'error', place, message, instead),
  ]
  if (bound.kind === 'positional' && bound.isNoTuple)
    return placeholders.length > 0
      ? say(`(${bound.values[0]}) is no tuple: its comma is missing.`, `(${bound.values[0]},)`)
      : []
  // A driver that is given no values leaves % and : as they are.
  if (bound.kind === 'none')
    return placeholders.some(({ style }) => style === 'dollar' || style === 'question') &&
      facts !== undefined &&
      read.pasted.length === 0
      ? say(`It has ${count(distinct(placeholders), 'placeholder')}, and no value is given.`)
      : []
  return bound.kind === 'named' ? namedCount(placeholders, bound, say) : positionalCount(placeholders, bound, say)
}

type Say = (message: string, instead?: string | null) => ReviewFinding[]

function namedCount(
  placeholders: readonly Placeholder[],
  bound: Extract<Bound, { kind: 'named' }>,
  say: Say,
): ReviewFinding[] {
  const used = new Set(placeholders.flatMap(({ name }) => (name === null ? [] : [name])))
  if (used.size === 0)
    return placeholders.length > 0 ? say(`Values are given by name, and the placeholders have none.`) : []
  const missing = [...used].filter((name) => !bound.names.includes(name))
  const unused = bound.names.filter((name) => name !== '' && !used.has(name))
  if (missing.length > 0)
    return say(
      `No value is given for ${missing.join(', ')}${unused.length > 0 ? `; ${unused.join(', ')} ${unused.length === 1 ? 'is' : 'are'} not used` : ''}.`,
    )
  return unused.length > 0 ? say(`${unused.join(', ')} ${unused.length === 1 ? 'is' : 'are'} given, and not used.`) : []
}

function positionalCount(
  placeholders: readonly Placeholder[],
  { values }: Extract<Bound, { kind: 'positional' }>,
  say: Say,
): ReviewFinding[] {
  // Setters by index may leave one out.
  const missing = values.findIndex((value: string | undefined) => value === undefined)
  if (missing >= 0 && missing < placeholders.length) return say(`Placeholder ${missing + 1} has no value.`)
  const byNumber = placeholders.filter(({ style }) => style === 'dollar')
  const wanted = byNumber.length > 0 ? Math.max(...byNumber.map(({ number }) => number)) : distinct(placeholders)
  if (byNumber.length > 0) {
    const gaps = Array.from({ length: wanted }, (_, at) => at + 1).filter(
      (number) => !byNumber.some((each) => each.number === number),
    )
    if (gaps.length > 0)
      return say(`$${gaps.join(', $')} ${gaps.length === 1 ? 'is' : 'are'} not used, and $${wanted} is.`)
  }
  if (wanted === values.length) return []
  return say(
    `It has ${count(wanted, 'placeholder')}, and ${count(values.length, 'value')} ${values.length === 1 ? 'is' : 'are'} given.`,
  )
}

function distinct(placeholders: readonly Placeholder[]): number {
  return new Set(placeholders.map(({ number }) => number)).size
}

function count(number: number, what: string): string {
  return `${number === 0 ? 'no' : number} ${what}${number === 1 ? '' : 's'}`
}

/** Whether the call runs the statement, so that its values have to be there. */
function isRun({ method }: Execution): boolean {
  return /^(query|pg_query|execute|executemany|exec|queryAll|fetch|fetchrow|fetchval|unsafe)$/.test(method)
}

function nullComparison(subject: Subject): ReviewFinding[] {
  const { read } = subject
  return [subject.facts, ...subject.others].flatMap((facts) => {
    if (!facts) return []
    // In a SET it is an assignment, which PostgreSQL's tree has elsewhere.
    const compared = facts.nullComparisons.map(({ at, operator }) => {
      const right = operator === '=' ? 'is null' : 'is not null'
      return finding(
        subject,
        'null-comparison',
        'error',
        read.placeAt(at),
        `${operator} null matches no row; use ${right}.`,
        right,
      )
    })
    const listed = facts.notInNull.map((at) =>
      finding(
        subject,
        'null-comparison',
        'error',
        read.placeAt(at),
        'not in a list that holds null matches no row. Take null out of it.',
      ),
    )
    return [...compared, ...listed]
  })
}

function transactionInside(subject: Subject): ReviewFinding[] {
  const { execution, facts, others, read } = subject
  if (execution.language === 'sql' || !facts) return []
  const all = [facts, ...others]
  const isMixed =
    all.length > 1 && all.some(({ kind }) => kind === 'transaction') && all.some(({ kind }) => kind !== 'transaction')
  return isMixed
    ? [
        finding(
          subject,
          'transaction-inside',
          'warning',
          read.placeAt(0),
          'BEGIN, COMMIT or ROLLBACK stands inside the text of a statement. Begin and end the transaction by the driver, or by calls of their own.',
        ),
      ]
    : []
}
