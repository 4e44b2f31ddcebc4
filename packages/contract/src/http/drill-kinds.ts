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
/** How drilled writes are guarded: as their definitions say, or each by this way instead. */
export const DRILL_GUARDS = ['as defined', 'version', 'rowStamp', 'values', 'none'] as const
