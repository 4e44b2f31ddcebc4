import { parameterText } from '../../statement/parameter-value.js'
import { isWrite, type Plan, type PlannedStep, type PlannedWrite } from '../../plan/plan.js'
import { bindValues, type Slot, type SlotSource, type Statement } from '../../statement/statement.js'
import type { Target } from '../../target/target.js'
import { guardBind, toGuard } from '../../mapping/guard-value.js'
import { digestKeyPads } from '../../statement/digest-key.js'
import { EVIDENCE_ROWS } from './evidence.js'
import { loadedText, type RunState } from './run-state.js'

/** What the slots of a run's statements are filled with, as far as the run has come. */
export class StepBinds {
  constructor(
    readonly target: Target,
    readonly plan: Plan,
    readonly state: RunState,
  ) {}

  /** The binds of a statement, in order, for a step. */
  of(statement: Statement, step: PlannedStep | null): (string | null)[] {
    return bindValues(statement, (source, slot) => this.valueOf(source, slot, step))
  }

  valueOf(source: SlotSource, slot: Slot, step: PlannedStep | null): string | null {
    const { state } = this
    switch (source.from) {
      case 'parameter':
        return this.plan.params.get(source.name)?.type === null
          ? parameterText(source, slot.sensitive, state.given[source.name] ?? null)
          : (state.params.get(source.name) ?? null)
      case 'loaded':
        return loadedText(state, source.name, source.property)
      case 'outcome':
        return String(state.outcomes.get(source.name)?.[source.of] ?? 0)
      case 'literal':
      case 'value':
        return source.text
      case 'expected':
        return step && isWrite(step) ? (step.expectedTexts.get(source.property) ?? null) : null
      case 'guard':
        return step && isWrite(step) ? this.#guardBind(step) : null
      case 'actor':
        return state.actor
      case 'digest key':
        return digestKeyPads(this.target.digestKey)
      case 'limit':
        return String(EVIDENCE_ROWS + 1)
      case 'entry':
        return source.field === 'id' ? state.entry : null
      case 'step':
        return String(step?.no ?? 0)
      default:
        return null
    }
  }

  /** The guards that the record may have, where the step says. */
  guardsOf({ guards, mapping, loadedName }: PlannedWrite): readonly string[] {
    if (guards === null || guards === 'any') return []
    if (guards === 'loaded') {
      const guard = toGuard(mapping, this.state.loaded.get(loadedName ?? '')?.guard ?? null)
      return guard === null ? [] : [guard]
    }
    return 'parameter' in guards ? [this.state.params.get(guards.parameter) ?? ''] : guards
  }

  #guardBind(step: PlannedWrite): string {
    const isAny = step.guards === null || step.guards === 'any'
    return guardBind(step.mapping, isAny ? 'any' : { guards: this.guardsOf(step) })
  }
}
