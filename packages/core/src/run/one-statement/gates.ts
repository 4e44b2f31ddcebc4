import type { PlannedStep } from '../../plan/plan.js'
import { refuseUnless } from './step-sql.js'

/** A step that finds its one row among those locked before, or none at all: it is judged together with the ones beside it. */
export interface Joined {
  no: number
  verdict: string
  changed: string
  /** Parts of the statement that its verdict looks at, with the aliases it knows them by. */
  parts: string[]
}

/** Where the counts of a step stand: in a part of the statement, under these names. */
interface Gate {
  part: string
  matched: string
  changed: string
}

/** The judgements of a statement that is a run: parts `gN`, each of which ends the statement where its steps are refused. */
export class Gates {
  readonly #gates = new Map<number, Gate>()
  #joined: Joined[] = []
  /** The last part that judges, and the steps' durations, each since the judgement before. */
  #last = 'g0'
  readonly #durations = new Map<number, string>()

  /** @param parts of the statement, to which judgements are added */
  constructor(readonly parts: string[]) {}

  /** The condition by which a step comes after what was judged before it. */
  get before(): string {
    return `(select ok from ${this.#last})`
  }

  /** Judges a step in a part of its own. */
  judge(
    step: PlannedStep,
    verdict: string,
    { matched, changed, from }: Record<'matched' | 'changed' | 'from', string>,
  ): void {
    const { no } = step
    const judged = step.when ? `(not (select yes from w${no}) or ${verdict})` : verdict
    this.parts.push(`g${no} as materialized (
  select ${refuseUnless(judged, `step ${no}`)} as ok, ${matched}::bigint as matched, ${changed}::bigint as changed, pg_catalog.clock_timestamp() as at${from && `\n  ${from}`}
)`)
    this.#gates.set(no, { part: `g${no}`, matched: 'matched', changed: 'changed' })
    this.#isJudged(no)
  }

  /** Has a step judged together with others that wait for it. */
  join(joined: Joined): void {
    this.#joined.push(joined)
  }

  waitsForJudgement(no: number): boolean {
    return this.#joined.some((joined) => joined.no === no)
  }

  /** Judges the steps that wait for it, in one part: none of them can wait for a lock, so that their order is nobody's concern. */
  judgeJoined(): void {
    const last = this.#joined.at(-1)
    if (!last) return
    const { no } = last
    const verdict = this.#joined.map((each) => each.verdict).join(' and ')
    const parts = this.#joined.flatMap((each) => each.parts)
    const from =
      parts.length === 0
        ? ''
        : `\n  from (select 1) as one ${parts.map((part) => `left join ${part} on true`).join(' ')}`
    const changes = this.#joined.map((each) => `${each.changed}::bigint as changed_${each.no}`)
    this.parts.push(`g${no} as materialized (
  select ${refuseUnless(parts.length === 0 ? `${this.before} and ${verdict}` : verdict, `step ${this.#joined[0]?.no} to ${no}`)} as ok,
    1::bigint as matched, ${changes.join(', ')}, pg_catalog.clock_timestamp() as at${from}
)`)
    for (const each of this.#joined)
      this.#gates.set(each.no, { part: `g${no}`, matched: 'matched', changed: `changed_${each.no}` })
    this.#joined = []
    this.#isJudged(no)
  }

  /** The SQL of a step's count, where the parts of all gates are joined. */
  count(of: 'matched' | 'changed', no: number): string {
    const gate = this.#gates.get(no)
    return gate ? `${gate.part}.${gate[of]}` : '0'
  }

  /** The same where nothing is joined; judges the step first, where it waits for that. */
  outcome(of: 'matched' | 'changed', no: number): string {
    if (!this.#gates.has(no)) this.judgeJoined()
    const gate = this.#gates.get(no)
    return gate ? `(select ${gate[of]} from ${gate.part})` : '0'
  }

  /** The SQL of the time a step took; undefined where it was not judged by itself. */
  duration(no: number): string | undefined {
    return this.#durations.get(no)
  }

  /** All parts that judge, in order. */
  get names(): string[] {
    return [...new Set(['g0', ...[...this.#gates.values()].map(({ part }) => part)])]
  }

  #isJudged(no: number): void {
    this.#durations.set(no, `g${no}.at - ${this.#last}.at`)
    this.#last = `g${no}`
  }
}
