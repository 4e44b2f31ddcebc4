import { expressionProblem } from '../values/expression/expression-problem.js'
import { scanSync, parseSync } from 'libpg-query'
import { hasRunOfSigns, suggestName, type SqlStep } from '@ledgerman/contract'
import { whyOutOfReach } from './out-of-reach.js'
import type { DefinitionFinding } from '../mapping/resolve-mapping.js'
import type { Surroundings } from '../statement/record-scope.js'
import { markPlace, placeOf, SlotList, toStatement, type Statement } from '../statement/statement.js'

const COLON = 58
const ALLOWED: Record<string, boolean> = {
  SelectStmt: false,
  InsertStmt: true,
  UpdateStmt: true,
  DeleteStmt: true,
  MergeStmt: true,
}

/**
 * Reads a raw statement with PostgreSQL's own grammar: `:name` parameters become placeholders with the parameter's type, and
 * exactly one SELECT, INSERT, UPDATE, DELETE or MERGE is let through. A fence against mistakes; the real one is the role.
 */
export function resolveSqlStep(
  step: SqlStep,
  where: string,
  surroundingsOf: (slots: SlotList) => Surroundings & { used: Set<string> },
  findings: DefinitionFinding[],
): { statement: Statement; writes: boolean; source: string } | undefined {
  const place = `${where}.sql`
  const slots = new SlotList()
  const { parameters, used } = surroundingsOf(slots)
  const refuse = (message: string, at?: number) => {
    findings.push({
      where: place,
      message: at === undefined ? message : expressionProblem(step.sql, at, message).detail,
    })
    return undefined
  }
  if (hasRunOfSigns(step.sql)) return refuse('the statement cannot be read: it has more than 63 signs in a row')
  const number = slots.expression(place, step.sql)
  const bytes = Buffer.from(step.sql)
  const pieces: string[] = []
  let from = 0
  // In characters, as the places of errors are; what the grammar counts is bytes.
  let at = 0
  const upTo = (end: number): string => {
    const piece = bytes.subarray(from, end).toString()
    from = end
    at += piece.length
    return piece
  }
  let areKnown = true
  let tokens
  try {
    tokens = scanSync(step.sql).tokens
  } catch {
    // The scanner does not say what it could not read; the parser does, where no parameter stops it before.
    const unread = parsed(step.sql.replace(/(?<!:):(?=[\p{L}_])/gu, ' '))
    return refuse('why' in unread ? unread.why : 'the statement cannot be read', unread.position)
  }
  for (let index = 0; index < tokens.length; index++) {
    const [token, name] = [tokens[index], tokens[index + 1]]
    if (!token) continue
    pieces.push(upTo(token.start), markPlace(number, at))
    if (!name || token.tokenType !== COLON || token.end !== name.start || !/^[\p{L}_]/u.test(name.text)) {
      pieces.push(upTo(token.end))
      continue
    }
    const type = parameters?.get(name.text)
    used.add(name.text)
    if (!type) {
      if (parameters?.has(name.text))
        refuse(
          `:${name.text} needs a type here, since a raw statement does not say what its parameters are: name it in types`,
        )
      else refuse(`:${name.text} is not a parameter. ${suggestName(name.text, parameters?.keys() ?? [])}`, at)
      areKnown = false
      continue
    }
    const placeholder = slots.add({
      name: `:${name.text}`,
      type: type.sql,
      sensitive: false,
      source: { from: 'parameter', name: name.text, isList: false, as: type.column },
    })
    pieces.push(`${placeholder}::${type.sql}`)
    upTo(name.end)
    index++
  }
  if (!areKnown) return undefined
  pieces.push(upTo(bytes.length))
  const statement = toStatement(pieces.join('').replace(/;\s*$/, ''), slots)
  const judged = judge(statement.text)
  if ('why' in judged) {
    const found = judged.position === undefined ? undefined : placeOf(statement, judged.position)
    return refuse(judged.why, found?.at)
  }
  if (judged.writes && step.changes !== true)
    return refuse('the statement writes; say changes: true beside it, or leave the writing out')
  return { statement, writes: judged.writes, source: step.sql }
}

interface Unread {
  why: string
  /** In characters from 0. */
  position: number | undefined
}

/** What PostgreSQL's grammar makes of a text. */
function parsed(text: string): { statements: { stmt?: Record<string, unknown> }[]; position?: undefined } | Unread {
  try {
    const { stmts } = parseSync(text) as { stmts?: { stmt?: Record<string, unknown> }[] }
    return { statements: stmts ?? [] }
  } catch (error) {
    const { message, sqlDetails } = error as Error & { sqlDetails?: { cursorPosition?: number } }
    const at = sqlDetails?.cursorPosition ?? -1
    return { why: `the statement cannot be read: ${message}`, position: at < 0 ? undefined : at }
  }
}

/** Whether a statement writes, or why it is not let through; with its place, in characters from 1, where there is one. */
function judge(text: string): { writes: boolean } | { why: string; position?: number | undefined } {
  const read = parsed(text)
  if ('why' in read) return { why: read.why, position: read.position === undefined ? undefined : read.position + 1 }
  const { statements } = read
  if (statements.length !== 1) return { why: `expected exactly one statement, got ${statements.length}` }
  const [kind = '', body] = Object.entries(statements[0]?.stmt ?? {})[0] ?? []
  const writes = ALLOWED[kind]
  if (writes === undefined || !Object.hasOwn(ALLOWED, kind))
    return {
      why: `expected a SELECT, INSERT, UPDATE, DELETE or MERGE, got ${kind
        .replace(/Stmt$/, '')
        .replace(/(?<=[a-z])(?=[A-Z])/g, ' ')
        .toUpperCase()}`,
    }
  const inside = kindsIn(body)
  if (inside.has('intoClause')) return { why: 'SELECT INTO makes a table; only rows can be changed here' }
  const why = whyOutOfReach(body)
  if (why !== undefined) return { why }
  return { writes: writes || [...inside].some((each) => ALLOWED[each] === true) }
}

/** The names of all nodes in a parse tree. */
function kindsIn(node: unknown, found = new Set<string>()): Set<string> {
  if (node === null || typeof node !== 'object') return found
  for (const [name, value] of Object.entries(node)) {
    if (!Array.isArray(node)) found.add(name)
    kindsIn(value, found)
  }
  return found
}
