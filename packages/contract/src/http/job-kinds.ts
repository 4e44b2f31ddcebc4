export const JOB_KINDS = ['filter', 'file', 'reversal', 'export'] as const
export const JOB_STATES = ['queued', 'running', 'done', 'failed', 'cancelled'] as const
export const IMAGES = ['full', 'changed', 'none'] as const
export const ON_MISSING = ['refuse', 'add'] as const

export type JobState = (typeof JOB_STATES)[number]
export type JobKind = (typeof JOB_KINDS)[number]
export type Images = (typeof IMAGES)[number]
export type OnMissing = (typeof ON_MISSING)[number]

/** The most rows that a chunk of a file may have. */
export const LARGEST_CHUNK = 100_000
