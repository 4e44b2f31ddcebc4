import { askedColumn } from '../../statement/asked-slots.js'
import { SlotList, type Slot } from '../../statement/statement.js'

/** The slots of all steps of a run, where they are one statement. */
export class RunSlots extends SlotList {
  protected override identityOf({ source, step, type }: Slot): string {
    // A placeholder takes the type it is cast to first: two types are two slots.
    return JSON.stringify([source, step, type])
  }
}

/** The slots of one step among them: its guard, and the values it expects, are its own. */
export class StepSlots extends SlotList {
  constructor(
    readonly all: RunSlots,
    readonly no: number,
  ) {
    super()
  }

  override add(slot: Slot): string {
    const isOwn = slot.source.from === 'guard' || slot.source.from === 'expected'
    return this.all.add(isOwn ? { ...slot, step: this.no } : slot)
  }

  override expression(label: string, source: string): number {
    return this.all.expression(label, source)
  }
}

/** The slots of all steps of runs that share a statement: columns of what their callers ask with. */
export class SharedRunSlots extends RunSlots {
  override add(slot: Slot): string {
    return askedColumn(super.add(slot))
  }
}
