import { COUNTS_A_STEP } from '../../plan/one-statement/step-sql.js'
import { isWrite, type Plan, type PlannedStep, type PlannedWrite } from '../../plan/plan.js'
import type { Rows } from '../../sessions/queryable.js'

type LoadStep = Extract<PlannedStep, { kind: 'load' }>

/**
 * Answers the statements of a run's steps, in their order, out of the rows that the run gave as one statement
 * (`../../plan/one-statement/build-one-statement.ts`): so what a step found and wrote is told in one place, however it was run.
 */
export function playBack(
  plan: Plan,
  rows: readonly (readonly (string | null)[])[],
): { durations: number[]; next: () => Promise<Rows> } {
  const given = new Map<number, Given[]>()
  for (const [step, texts] of rows) {
    const own = given.get(Number(step)) ?? []
    own.push(JSON.parse(texts ?? '[]') as Given)
    given.set(Number(step), own)
  }
  const counts = (given.get(0)?.[0] ?? []) as (string | null)[]
  const durations: number[] = []
  const answers: Texts[][] = []
  for (const [at, step] of plan.steps.entries()) {
    const first = COUNTS_A_STEP * at
    const [matched = '0', changed = '0', skipped, durationMs] = counts.slice(first, first + COUNTS_A_STEP)
    durations.push(Number(durationMs))
    const isAsked = skipped === 'false'
    if (step.when) answers.push([[isAsked ? 't' : 'f']])
    if (!isAsked) continue
    const own = given.get(step.no) ?? []
    if (step.kind === 'require') answers.push([['t']])
    else if (isWrite(step)) answers.push(writtenRows(step, own, matched, changed))
    else if (step.kind === 'load') answers.push(own.map((texts) => [...loadedRow(step, texts), matched, null]))
    else throw new Error(`Step ${step.no} is no part of a statement.`)
  }
  function loadedRow(step: LoadStep, texts: Given): Texts {
    if (!Array.isArray(texts[0])) return texts as Texts
    const [key, from] = texts as [Texts, number]
    const places = step.mapping.key.map((property) => step.mapping.properties.indexOf(property))
    const whole = given.get(from)?.find((each) => places.every((place, at) => each[place] === key[at]))
    return (whole ?? []) as Texts
  }

  return {
    durations,
    next: () => {
      const answer = answers.shift()
      if (!answer) throw new Error('The run asked for more than its statement gave back.')
      return Promise.resolve<Rows>({ rows: answer, command: 'SELECT', rowCount: answer.length })
    },
  }
}

/** A row in texts; or, of a row that was written, its key and images, and its guard; or its key, and the step that gave it whole. */
type Given =
  Texts | [key: Texts, before: Texts | null, after: Texts | null, guard: string | null] | [key: Texts, step: number]
type Texts = (string | null)[]

/** The rows as the step's own statement has them, with the flags that hold for whatever was not refused. */
function writtenRows(step: PlannedWrite, given: Given[], matched: string | null, changed: string | null): Texts[] {
  const { mapping, touched, shape } = step
  const width = mapping.properties.length
  const judged = [matched, changed, '0', '0', null, null, 't']
  const rows = given.map((texts) => {
    if (Array.isArray(texts[0])) {
      const [key, before, after, guard] = texts as [Texts, Texts | null, Texts | null, string | null]
      const known = mapping.properties.map((property) => {
        const place = mapping.key.indexOf(property)
        if (place >= 0) return key[place] ?? null
        const touchedAt = touched.indexOf(property)
        // Asking an array for what stands at -1 is slow.
        return touchedAt >= 0 ? (before?.[touchedAt] ?? null) : null
      })
      return [...known, 't', 't', 't', 't', null, guard, ...judged, ...(after ?? [])]
    }
    const row = texts as Texts
    if (shape.kind === 'add') return ['t', 't', 't', 't', null, row[width] ?? null, ...judged, ...row.slice(0, width)]
    const [differs, written, before, after] = row.slice(width, width + 4)
    const isWritten = written === 't' ? 't' : null
    const flags = ['t', 't', differs ?? null, isWritten, before ?? null, after ?? null]
    return [...row.slice(0, width), ...flags, ...judged, ...row.slice(width + 4)]
  })
  if (rows.length > 0 || matched === '0') return rows
  // It was as it should be already: nothing was written, and nothing is told of it but that it is there.
  return [[...mapping.properties.map(() => null), 't', 't', 'f', null, null, null, ...judged]]
}
