import type { StepDefinition } from '@ledgerman/contract'
import type { Rows } from '../sessions/queryable.js'

// What a clock gives differs from one trial to the next. What expressions ask of it is fixed beforehand; what defaults, triggers and raw
// statements take from it is told by its value: a moment of the drill itself.

/** How far a moment that was rounded may lie before the drill's beginning or after now, in milliseconds. */
const ROUNDING_MS = 1_000

/** Stands for whatever a clock gave. */
export const CLOCK = '<clock>'

/** The moments of one drill, by the clock of the server that it runs on: this machine's may be another. */
export class DrillClock {
  readonly #startedMs: number

  /** @param aheadMs how far the server's clock is ahead of this machine's */
  private constructor(readonly aheadMs: number) {
    this.#startedMs = Date.now() + aheadMs
  }

  static async begin(ask: (text: string) => Promise<Rows>): Promise<DrillClock> {
    const { rows } = await ask(`select pg_catalog.date_part('epoch', pg_catalog.clock_timestamp()) * 1000::float8`)
    return new DrillClock(Number(rows[0]?.[0]) - Date.now())
  }

  /** The moment that `now()` is in an expression of a run: before the drill, and another for each run. */
  frozenFor(run: number): string {
    return new Date(this.#startedMs - 60_000 - run * 1_000).toISOString()
  }

  /** Whether a value is a moment of the drill, as a clock gave it. */
  isReading(value: unknown): boolean {
    if (typeof value !== 'string' || !/^\d{4}-\d{2}-\d{2}[T ]\d{2}:\d{2}/.test(value)) return false
    // A moment without a zone is read as in UTC, which is what the sessions are set to.
    const text = /(?:Z|[+-]\d{2}(?::?\d{2})?)$/.test(value) ? value.replace(/([+-]\d{2})$/, '$1:00') : `${value}Z`
    const at = Date.parse(text.replace(' ', 'T'))
    return at >= this.#startedMs - ROUNDING_MS && at <= Date.now() + this.aheadMs + ROUNDING_MS
  }

  /** The value, or what stands for it where a clock gave it. */
  without<T>(value: T): T | typeof CLOCK {
    return this.isReading(value) ? CLOCK : value
  }
}

/** The steps with `now()` in their expressions fixed. */
export function withFrozenClock(steps: readonly StepDefinition[], at: string): StepDefinition[] {
  const frozen = `cast('${at}' as timestamptz)`
  const fix = (value: unknown): unknown => (typeof value === 'string' ? replaceNow(value, frozen) : value)
  return steps.map((step) => {
    const { where, when, require, key, compute } = step as Record<string, unknown>
    const fixAll = (all: unknown) =>
      Object.fromEntries(Object.entries(all as object).map(([name, value]) => [name, fix(value)]))
    return {
      ...step,
      ...(where === undefined ? {} : { where: fix(where) }),
      ...(when === undefined ? {} : { when: fix(when) }),
      ...(require === undefined ? {} : { require: fix(require) }),
      ...(key === undefined ? {} : { key: fixAll(key) }),
      ...(compute === undefined ? {} : { compute: fixAll(compute) }),
    } as StepDefinition
  })
}

/** Texts in quotes stay as they are. */
function replaceNow(expression: string, frozen: string): string {
  return expression.replace(/'(?:[^']|'')*'|"(?:[^"]|"")*"|\bnow\s*\(\s*\)/gi, (found) =>
    /^now/i.test(found) ? frozen : found,
  )
}

/** Functions whose results nobody can foresee: what a raw statement gives that calls one of them is not compared. */
export const BY_CHANCE =
  /\b(?:nextval|clock_timestamp|statement_timestamp|transaction_timestamp|timeofday|now|random|gen_random_uuid|uuid_generate_v\d\w*|txid_current|pg_current_xact_id|pg_backend_pid)\s*\(|\bcurrent_(?:time|timestamp|date)\b|\blocaltime(?:stamp)?\b/i
