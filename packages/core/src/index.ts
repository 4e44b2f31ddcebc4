export { Target } from './target/target.js'
export type { TargetOptions } from './target/target.js'
export type { SessionLimits } from './target/session-settings.js'

export { parseTablePath, toTablePath } from './catalogue/table-path.js'
export type { Table, Column, TableKey } from './catalogue/table.js'

export { resolveMapping } from './mapping/resolve-mapping.js'
export { deriveMapping } from './mapping/derive-mapping.js'
export { describeProperties } from './mapping/describe-properties.js'
export type { Mapping, Property } from './mapping/mapping.js'

export { loadRecord, listRecords } from './transaction/load-record.js'
export { changeRecord } from './transaction/change-record.js'
export type { ChangeRequest } from './transaction/change-record.js'
export type { GuardCondition } from './transaction/guard-value.js'
export { parseKeyParts } from './transaction/record-key.js'
export type { KeyTexts } from './transaction/record-key.js'

export { prepareBook } from './book/prepare-book.js'
export { listEntries, getEntry } from './book/read-entries.js'
export type { EntryFilter, FindMapping } from './book/read-entries.js'
