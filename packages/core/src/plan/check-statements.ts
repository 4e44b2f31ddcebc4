import type { DefinitionFinding } from '../mapping/resolve-mapping.js'
import type { Statement } from '../statement/statement.js'
import { checkPrepared } from '../target/check-prepared.js'
import type { Target } from '../target/target.js'
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

function statementsOf(step: PlannedStep): Statement[] {
  const when = step.when ? [step.when.statement] : []
  if (step.kind === 'require') return [...when, step.judgement.statement]
  return [...when, isWrite(step) ? step.step : step.statement]
}
