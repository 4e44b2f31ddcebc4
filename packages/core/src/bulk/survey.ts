/** What was found, counted. */
export interface Survey {
  matched: number
  changed: number
  guardBroken: number
  ruleBroken: number
  leavesOut: boolean
  /** Of one row, about. */
  bytes: number
  digest: string | null
}

/** The columns that the survey gives, in order. */
const SURVEY = ['matched', 'changed', 'guardBroken', 'ruleBroken', 'leavesOut', 'bytes', 'digest'] as const

/** Reads the row that the statement of a survey gives. */
export function toSurvey(row: readonly (string | null | undefined)[] = []): Survey {
  const column = (name: (typeof SURVEY)[number]) => row[SURVEY.indexOf(name)] ?? null
  const number = (name: (typeof SURVEY)[number]) => Number(column(name) ?? 0)
  return {
    matched: number('matched'),
    changed: number('changed'),
    guardBroken: number('guardBroken'),
    ruleBroken: number('ruleBroken'),
    leavesOut: column('leavesOut') !== 'f',
    bytes: number('bytes'),
    digest: column('digest'),
  }
}

/** What a survey says of given rows that are all found and all to be written. */
export function allOf(count: number): Survey {
  return { matched: count, changed: count, guardBroken: 0, ruleBroken: 0, leavesOut: true, bytes: 0, digest: null }
}
