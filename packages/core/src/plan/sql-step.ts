import { withPlace } from '../expression/expression-problem.js'
import { scanSync, parseSync } from 'libpg-query'
import { suggestName, type SqlStep } from '@ledgerman/contract'
import { whyOutOfReach } from './out-of-reach.js'
import type { DefinitionFinding } from '../mapping/resolve-mapping.js'
import type { Surroundings } from '../statement/record-scope.js'
import { markPlace, SlotList, toStatement, type Statement } from '../statement/statement.js'

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
    findings.push({ where: place, message: at === undefined ? message : `${withPlace(message, at)}\n${step.sql}` })
    return undefined
  }
  const number = slots.expression(place, step.sql)
  const bytes = Buffer.from(step.sql)
  let text = ''
  let from = 0
  let areKnown = true
  let tokens
  try {
    tokens = scanSync(step.sql).tokens
  } catch (error) {
    return refuse(`the statement cannot be read: ${(error as Error).message}`)
  }
  for (let at = 0; at < tokens.length; at++) {
    const [colon, name] = [tokens[at], tokens[at + 1]]
    if (!colon || !name || colon.tokenType !== COLON || colon.end !== name.start || !/^[\p{L}_]/u.test(name.text))
      continue
    const before = bytes.subarray(from, colon.start).toString()
    const type = parameters?.get(name.text)
    used.add(name.text)
    if (!type) {
      const at = Buffer.from(bytes.subarray(0, colon.start)).toString().length
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
    text += `${markPlace(number, bytes.subarray(0, from).toString().length)}${before}${placeholder}::${type.sql}`
    from = name.end
  }
  if (!areKnown) return undefined
  text += markPlace(number, bytes.subarray(0, from).toString().length) + bytes.subarray(from).toString()
  const statement = toStatement(text.replace(/;\s*$/, ''), slots)
  const judged = judge(statement.text)
  if (typeof judged === 'string') return refuse(judged)
  if (judged.writes && step.changes !== true)
    return refuse('the statement writes; say changes: true beside it, or leave the writing out')
  return { statement, writes: judged.writes, source: step.sql }
}

function judge(text: string): { writes: boolean } | string {
  let parsed: { stmts?: { stmt?: Record<string, unknown> }[] }
  try {
    parsed = parseSync(text) as typeof parsed
  } catch (error) {
    return `the statement cannot be read: ${(error as Error).message}`
  }
  const statements = parsed.stmts ?? []
  if (statements.length !== 1) return `expected exactly one statement, got ${statements.length}`
  const [kind = '', body] = Object.entries(statements[0]?.stmt ?? {})[0] ?? []
  const writes = ALLOWED[kind]
  if (writes === undefined || !Object.hasOwn(ALLOWED, kind))
    return `expected a SELECT, INSERT, UPDATE, DELETE or MERGE, got ${kind
      .replace(/Stmt$/, '')
      .replace(/(?<=[a-z])(?=[A-Z])/g, ' ')
      .toUpperCase()}`
  const inside = kindsIn(body)
  if (inside.has('intoClause')) return 'SELECT INTO makes a table; only rows can be changed here'
  const why = whyOutOfReach(body)
  if (why !== undefined) return why
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
