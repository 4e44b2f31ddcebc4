import { isProblem } from '@ledgerman/contract'
import { isDatabaseError } from '../sessions/database-error.js'
import type { Mapping } from '../mapping/mapping.js'
import type { DefinitionFinding } from '../mapping/resolve-mapping.js'
import { withPrefix, type Statement } from '../statement/statement.js'
import type { Target } from '../target/target.js'
import { inRehearsal } from '../target/in-transaction.js'
import { isWrite, type Plan, type PlannedStep } from './plan.js'

/**
 * Has PostgreSQL prepare every statement of a plan, and runs none: what its types do not fit is found when a definition is
 * published, and told in the expression it comes from.
 */
export async function checkStatements(target: Target, plan: Plan): Promise<DefinitionFinding[]> {
  return checkPrepared(target, [
    { where: 'params', statement: plan.prologue.statement },
    ...plan.steps.flatMap((step) =>
      statementsOf(step).map((statement) => ({
        where: `steps.${step.no}`,
        statement,
        ...('mapping' in step ? { mapping: step.mapping } : {}),
      })),
    ),
  ])
}

/** A statement to be prepared, and where it was written. */
export interface CheckedStatement {
  where: string
  statement: Statement
  mapping?: Mapping
}

/** Has PostgreSQL prepare statements, and runs none. */
export async function checkPrepared(target: Target, checks: readonly CheckedStatement[]): Promise<DefinitionFinding[]> {
  const findings: DefinitionFinding[] = []
  if (checks.length === 0) return findings
  await inRehearsal(target, async (session) => {
    for (const { where, statement, mapping } of checks) {
      await session.query('savepoint before')
      const prepared = withPrefix('prepare ledgerman_check as ', statement)
      try {
        await session.query(prepared.text)
        await session.query('deallocate ledgerman_check')
      } catch (error) {
        if (!isDatabaseError(error)) throw error
        const problem = target.explain(error, {
          ...(mapping ? { mapping } : {}),
          statement: prepared,
          slots: statement.slots,
        })
        const place = isProblem(problem, 'expression-invalid') ? String(problem.facts['where']) : where
        findings.push({ where: place, message: isProblem(problem) ? problem.detail : error.message })
      }
      await session.query('rollback to savepoint before')
    }
  })
  return findings
}

function statementsOf(step: PlannedStep): Statement[] {
  const when = step.when ? [step.when.statement] : []
  if (step.kind === 'require') return [...when, step.judgement.statement]
  return [...when, isWrite(step) ? step.step : step.statement]
}
