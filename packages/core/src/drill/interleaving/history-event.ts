import type { PlannedStep } from '../../plan/plan.js'
import { describeStep } from '../describe-step.js'
import type { Drilled } from '../scratch/observe-run.js'
import type { HistoryEvent } from './history.js'

/**
 * What a run did at a step, with no rows of it known.
 *
 * @param step null for the commit
 * @param why what the database said, where it refused
 */
export function historyEvent(
  run: number,
  drilled: Drilled,
  step: PlannedStep | null,
  action: HistoryEvent['action'],
  why?: string,
): HistoryEvent {
  const told = step ? describeStep(step, drilled) : 'commit'
  return {
    run,
    step: step?.no ?? 'commit',
    kind: step?.kind ?? 'commit',
    mapping: step && 'mapping' in step ? step.mapping.name : null,
    message: why === undefined ? told : `${told}: ${why}`,
    action,
    isByCondition: false,
    writesUnseen: step?.kind === 'sql' && step.writes,
    rows: [],
    matched: null,
  }
}
