export const RUN_MODES = ['rehearse', 'commit'] as const
export const OUTCOMES = ['rehearsed', 'committed', 'refused'] as const
export const STEP_KINDS = ['load', 'change', 'replace', 'add', 'remove', 'require', 'sql'] as const

export type RunMode = (typeof RUN_MODES)[number]
export type Outcome = (typeof OUTCOMES)[number]
export type StepKind = (typeof STEP_KINDS)[number]
