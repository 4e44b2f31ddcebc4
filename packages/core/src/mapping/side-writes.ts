import type { StepKind } from '@ledgerman/contract'
import type { SideWriter, WriteEvent } from './catalogue/table.js'
import type { Mapping, Property } from './mapping.js'

const EVENTS: Partial<Record<StepKind, WriteEvent>> = {
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

/** Triggers that may keep a step from writing its row: those that fire before it, or in its place. */
export function swallowers({ table }: Mapping, kind: StepKind): string[] {
  return table.triggers
    .filter(({ when, on }) => when !== 'after' && on.some((event) => event === EVENTS[kind]))
    .map(({ name }) => name)
}

/** Triggers behind which the rows that a step leaves may be other than its statement returned them. */
export function lateTriggers({ table }: Mapping, kind: StepKind): string[] {
  return table.afterTriggers.filter(({ on }) => on.some((event) => event === EVENTS[kind])).map(({ name }) => name)
}

/** What a receipt cannot show of a step that wrote rows: what the database may have written beside them, by name. */
export function writtenBeside(mapping: Mapping, kind: StepKind, set: readonly Property[]): string[] {
  return sideWrites(mapping, kind, set).map((words) => `${mapping.name}: ${words}.`)
}

function told({ by, name, table }: SideWriter, isRemoval: boolean): string {
  if (by !== 'foreign key') return `what the ${by} ${name} may have written elsewhere`
  return `rows of ${table} that may have been ${isRemoval ? 'removed or changed' : 'changed'} with it (foreign key ${name})`
}
