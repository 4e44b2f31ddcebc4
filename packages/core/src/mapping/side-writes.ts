import type { StepKind } from '@ledgerman/contract'
import type { SideWriter } from '../catalogue/table.js'
import type { Mapping, Property } from './mapping.js'

const EVENTS: Partial<Record<StepKind, SideWriter['on'][number]>> = {
  add: 'insert',
  change: 'update',
  replace: 'update',
  remove: 'delete',
}

/**
 * What a step may have written beside its rows, which no image holds and no reversal puts back, in words that follow "Not put back:".
 * Nobody counted, so they say what may be.
 */
export function sideWrites({ table }: Mapping, kind: StepKind, set: readonly Property[]): string[] {
  const event = EVENTS[kind]
  const isMet = ({ on, columns }: SideWriter) =>
    event !== undefined &&
    on.includes(event) &&
    (event !== 'update' || columns === null || set.some(({ column }) => columns.includes(column.name)))
  return table.sideWriters.filter(isMet).map((writer) => told(writer, event === 'delete'))
}

function told({ by, name, table }: SideWriter, isRemoval: boolean): string {
  if (by !== 'foreign key') return `what the ${by} ${name} may have written elsewhere`
  return `rows of ${table} that may have been ${isRemoval ? 'removed or changed' : 'changed'} with it (foreign key ${name})`
}
