import { isProblem } from '@ledgerman/contract'
import type { ErrorContext } from './problem/error-context.js'
import { isDatabaseError } from '../sessions/database-error.js'
import {
  bindValues,
  SlotList,
  toStatement,
  withPrefix,
  type SlotSource,
  type Statement,
} from '../statement/statement.js'
import { inRehearsal } from './in-transaction.js'
import type { Target } from './target.js'

/** A statement to be prepared, and where it was written. */
export interface CheckedStatement {
  where: string
  statement: Statement
  mapping?: ErrorContext['mapping']
}

/** What PostgreSQL finds wrong with a statement, and where that was written. */
export interface PreparedFinding {
  where: string
  message: string
}

/** Has PostgreSQL prepare statements, and runs none; it reads their literals, each as the type it stands for. */
export async function checkPrepared(target: Target, checks: readonly CheckedStatement[]): Promise<PreparedFinding[]> {
  const findings: PreparedFinding[] = []
  if (checks.length === 0) return findings
  await inRehearsal(target, async (session) => {
    for (const { where, statement, mapping } of checks) {
      const attempt = async (asked: Statement, work: () => Promise<unknown>): Promise<boolean> => {
        await session.query('savepoint before')
        const error = await work().then(
          () => undefined,
          (reason: unknown) => reason,
        )
        if (error !== undefined && !isDatabaseError(error)) throw error
        await session.query('rollback to savepoint before')
        if (error) {
          const problem = target.explain(error, {
            ...(mapping ? { mapping } : {}),
            statement: asked,
            slots: asked.slots,
          })
          const place = isProblem(problem, 'expression-invalid') ? String(problem.facts['where']) : where
          findings.push({ where: place, message: isProblem(problem) ? problem.detail : error.message })
        }
        return error === undefined
      }
      const prepared = withPrefix('prepare ledgerman_check as ', statement)
      const fits = await attempt(prepared, async () => {
        await session.query(prepared.text)
        await session.query('deallocate ledgerman_check')
      })
      if (!fits) continue
      for (const literals of literalsOf(statement))
        if (!(await attempt(literals, () => session.query(literals.text, bindValues(literals, textOf))))) break
    }
  })
  return findings
}

/** How many literals are read at once: PostgreSQL's lists of columns hold 1,664. */
const AT_ONCE = 1_000

/** Statements that read each literal of another one, and do nothing else. */
function literalsOf({ slots, expressions }: Statement): Statement[] {
  const literals = slots.filter(({ source }) => source.from === 'literal')
  return Array.from({ length: Math.ceil(literals.length / AT_ONCE) }, (_, part) => {
    const list = new SlotList()
    list.expressions.push(...expressions)
    const casts = literals.slice(part * AT_ONCE, (part + 1) * AT_ONCE).map((slot) => `${list.add(slot)}::${slot.type}`)
    return toStatement(`select ${casts.join(', ')}`, list)
  })
}

function textOf(source: SlotSource): string | null {
  return source.from === 'literal' ? source.text : null
}
