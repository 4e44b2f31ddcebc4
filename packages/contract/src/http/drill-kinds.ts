export const ISOLATIONS = ['read committed', 'repeatable read', 'serializable'] as const
/** What a drill can do to a run. */
export const FAULT_KINDS = [
  'error',
  'connection',
  'time-limit',
  'row-held',
  'table-held',
  'row-changed',
  'row-removed',
] as const
/** How the code that is written for a transaction is drilled in place of its definition: without, or with entries in the book. */
export const CODE_FORMS = ['plain', 'booked'] as const
/** How drilled writes are guarded: as their definitions say, or each by this way instead. */
export const DRILL_GUARDS = ['as defined', 'version', 'rowStamp', 'values', 'none'] as const
