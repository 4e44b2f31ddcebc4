import type { Explained } from '@ledgerman/contract'
import type { ErrorContext } from './problem/error-context.js'
import { withPrefix, type Statement } from '../statement/statement.js'
import type { Target } from './target.js'
import { showableBinds, toBindReceipts } from '../statement/shown-statement.js'
import { describePlan, type PlanNode } from './describe-plan.js'

/**
 * Shows a statement before it is run: its text, its binds, and how PostgreSQL would go about it. Nothing is run but the
 * planner.
 */
export async function explainStatement(
  target: Target,
  mapping: Required<ErrorContext>['mapping'],
  statement: Statement,
  values: (string | null)[],
  signal?: AbortSignal,
): Promise<Explained> {
  const explain = async (format: 'json' | 'text') => {
    const run = withPrefix(`explain (format ${format}) `, statement)
    try {
      return (await target.readOnly(run.text, values, signal)).rows.map(([line]) => line ?? '')
    } catch (error) {
      throw await target.explainRead(error, { mapping, slots: statement.slots, statement: run })
    }
  }
  const [json, plan] = await Promise.all([explain('json'), explain('text')])
  const [{ Plan }] = JSON.parse(json.join('\n')) as [{ Plan: PlanNode }]
  const shown = showableBinds(statement.slots, values, target.digestKey)
  return {
    statement: statement.text,
    binds: toBindReceipts(statement.slots, shown),
    ...describePlan(Plan),
    plan: plan.join('\n'),
  }
}
