import type { PlannedStep } from '../plan.js'
import { conjunction } from '../../statement/write-parts.js'
import { refuseUnless } from './step-sql.js'

/** A step that finds its one row among those locked before, or none at all: it is judged together with the ones beside it. */
export interface Joined {
  no: number
  verdict: string
  changed: string
  /** Parts of the statement that its verdict looks at, with the aliases it knows them by. */
  parts: string[]
}

/** Where the counts of a step stand: in a part of the statement, under these names; or the counts themselves, where they are known. */
interface Gate {
  part: string
  matched: string
  changed: string
}

/** The judgements of a statement that is a run: parts `gN`, each of which ends the statement where its steps are refused. */
export class Gates {
  readonly #gates = new Map<number, Gate>()
  #joined: Joined[] = []
  readonly #begun: string[] = []
  /** The last part that judges, none before the first; and the steps' durations, each since the judgement before. */
  #last: string | null = null
  readonly #durations = new Map<number, string>()

  /**
   * @param parts of the statement, to which judgements are added
   * @param isTimed whether each judgement says when it was made
   */
  constructor(
    readonly parts: string[],
    readonly isTimed: boolean,
  ) {}

  get #at(): string[] {
    return this.isTimed ? ['pg_catalog.clock_timestamp() as at'] : []
  }

  /** The condition by which a step comes after what was judged before it. */
  get before(): string {
    return this.#last === null ? 'true' : `(select ok from ${this.#last})`
  }

  /** Begins with a part that every step comes after. @param what it selects: what is done first, and `ok`, whether that holds */
  begin(what: string): void {
    this.parts.push(`g0 as materialized (\n  select ${[what, ...this.#at].join(', ')}\n)`)
    this.#begun.push('g0')
    this.#last = 'g0'
  }

  /** Judges a step in a part of its own. */
  judge(step: PlannedStep, verdict: string, counts: Record<'matched' | 'changed' | 'from', string>): void {
    const { no } = step
    const judged = step.when ? `(not (select yes from w${no}) or ${verdict})` : verdict
    const [matched, changed] = [counted(counts.matched, 'matched'), counted(counts.changed, 'changed')]
    const columns = [`${refuseUnless(judged, `step ${no}`)} as ok`, ...matched.columns, ...changed.columns, ...this.#at]
    this.parts.push(`g${no} as materialized (\n  select ${columns.join(', ')}${counts.from && `\n  ${counts.from}`}\n)`)
    this.#gates.set(no, { part: `g${no}`, matched: matched.name, changed: changed.name })
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
    const changed = this.#joined.map((each) => ({ no: each.no, ...counted(each.changed, `changed_${each.no}`) }))
    const holds = parts.length === 0 ? conjunction([this.before, verdict]) : verdict
    const columns = [
      `${refuseUnless(holds, `step ${this.#joined[0]?.no} to ${no}`)} as ok`,
      ...changed.flatMap((each) => each.columns),
      ...this.#at,
    ]
    this.parts.push(`g${no} as materialized (\n  select ${columns.join(', ')}${from}\n)`)
    for (const each of changed) this.#gates.set(each.no, { part: `g${no}`, matched: '1', changed: each.name })
    this.#joined = []
    this.#isJudged(no)
  }

  /** The SQL of a step's count, where the parts of all gates are joined. */
  count(of: 'matched' | 'changed', no: number): string {
    const { part, [of]: name } = this.#gates.get(no) ?? NO_GATE
    return isKnown(name) ? name : `${part}.${name}`
  }

  /** The same as a text. */
  countText(of: 'matched' | 'changed', no: number): string {
    const count = this.count(of, no)
    return isKnown(count) ? `'${count}'` : `${count}::text`
  }

  /** The same where nothing is joined; judges the step first, where it waits for that. */
  outcome(of: 'matched' | 'changed', no: number): string {
    if (!this.#gates.has(no)) this.judgeJoined()
    const { part, [of]: name } = this.#gates.get(no) ?? NO_GATE
    return isKnown(name) ? `${name}::bigint` : `(select ${name} from ${part})`
  }

  /** The SQL of the time a step took; undefined where it was not judged by itself, or no time is kept. */
  duration(no: number): string | undefined {
    return this.#durations.get(no)
  }

  /** All parts that judge, in order. */
  get names(): string[] {
    return [...new Set([...this.#begun, ...[...this.#gates.values()].map(({ part }) => part)])]
  }

  #isJudged(no: number): void {
    const since = this.#last === null ? 'pg_catalog.statement_timestamp()' : `${this.#last}.at`
    if (this.isTimed) this.#durations.set(no, `g${no}.at - ${since}`)
    this.#last = `g${no}`
  }
}

/** A step that there is not. */
const NO_GATE: Gate = { part: '', matched: '0', changed: '0' }

/** A count as a column of that name, unless it is known. */
function counted(count: string, name: string): { name: string; columns: string[] } {
  return isKnown(count) ? { name: count, columns: [] } : { name, columns: [`${count}::bigint as ${name}`] }
}

function isKnown(count: string): boolean {
  return count === '0' || count === '1'
}
