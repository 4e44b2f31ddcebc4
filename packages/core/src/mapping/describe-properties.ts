import type { PropertyInfo } from '@ledgerman/contract'
import type { Mapping } from './mapping.js'

/** What a form or a command line needs to know of each property. */
export function describeProperties(mapping: Mapping): PropertyInfo[] {
  return mapping.properties.map(({ name, column, key, sensitive, lockedBecause, lockedForAddBecause }) => ({
    name,
    column: column.name,
    type: column.type.sql,
    kind: column.type.kind,
    choices: column.type.labels,
    element: column.type.element?.kind ?? null,
    nullable: !column.notNull && !column.type.domainNotNull,
    key,
    writable: lockedBecause === null,
    addable: lockedForAddBecause === null,
    required:
      lockedForAddBecause === null &&
      (column.notNull || column.type.domainNotNull) &&
      column.default === null &&
      column.identity === null,
    lockedBecause,
    sensitive,
  }))
}
