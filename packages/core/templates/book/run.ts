import type { ClientBase } from 'pg'
import { ask, countOf, type Row } from '../support/ask.js'
import type { Step } from '../support/step.js'
import { current, kept, newEntryId } from './settings.js'
import { idOf, type BookedStatement } from './statements.js'

/** How many texts the statement of all steps tells of each: rows matched, rows changed, whether it was skipped. */
const TEXTS_A_STEP = 3

/** A bind that an earlier step gives: only the statement of all steps knows it. */
export const LATE = Symbol('given by an earlier step')

export interface RunDefinition {
  transaction: string
  revision: number
  isolation: string
  definitions: Readonly<Record<string, number>>
  steps: readonly {
    no: number
    name: string | null
    expected: string
    statement: BookedStatement
    writes: boolean
    reversible: 'yes' | 'partly' | 'no'
  }[]
}

/** A run on its way: what its steps were given, and what came of them. */
export class Run {
  readonly definition: RunDefinition
  id = newEntryId()
  readonly #startedAt = new Date().toISOString()
  #started = performance.now()
  readonly #done = new Map<
    number,
    { values: (string | null)[]; matched: number | null; changed: number | null; ms: number }
  >()

  constructor(definition: RunDefinition) {
    this.definition = definition
  }

  /** Begins again, after an attempt that was rolled back. */
  begin(): this {
    this.#started = performance.now()
    this.#done.clear()
    this.id = newEntryId()
    return this
  }

  async ask(client: ClientBase, no: number, text: string, values: readonly (string | null)[]): Promise<Row[]> {
    const started = performance.now()
    this.#done.set(no, { values: [...values], matched: null, changed: null, ms: 0 })
    const rows = await ask(client, text, values)
    this.#done.set(no, { values: [...values], matched: null, changed: null, ms: performance.now() - started })
    return rows
  }

  async holds(client: ClientBase, no: number, text: string, values: readonly (string | null)[]): Promise<boolean> {
    const [row = []] = await this.ask(client, no, text, values)
    return row[0] === 't'
  }

  /** What a step came to without a statement; undefined where it needs one. */
  known<T>(no: number, values: readonly (string | null)[], result: T): T {
    if (result !== undefined) this.#done.set(no, { values: [...values], matched: null, changed: null, ms: 0 })
    return result
  }

  async countOf(client: ClientBase, no: number, text: string, values: readonly (string | null)[]): Promise<number> {
    const started = performance.now()
    const count = await countOf(client, text, values)
    this.#done.set(no, { values: [...values], matched: null, changed: null, ms: performance.now() - started })
    return count
  }

  /** What came of a step. */
  tell<T extends Pick<Step, 'matched' | 'changed'>>(no: number, step: T): T {
    const done = this.#done.get(no) ?? { values: [], matched: null, changed: null, ms: 0 }
    this.#done.set(no, { ...done, matched: step.matched, changed: step.changed })
    return step
  }

  /** What came of all steps, as their one statement tells it: a JSON array of texts, some for each step. */
  tellAll(json: string): void {
    const texts = JSON.parse(json) as string[]
    for (const { no } of this.definition.steps) {
      const at = TEXTS_A_STEP * (no - 1)
      // Where it was skipped both are 'null'.
      const [matched, changed] = [Number(texts[at]) || 0, Number(texts[at + 1]) || 0]
      this.#done.set(no, { values: [], matched, changed, ms: 0 })
    }
  }

  /** How many rows a step matched and changed; none where it did not run. */
  counts(no: number): { matched: number; changed: number } {
    const { matched, changed } = this.#done.get(no) ?? {}
    return { matched: matched ?? 0, changed: changed ?? 0 }
  }

  get actor(): string {
    return current().actor
  }

  get note(): string | null {
    return current().note
  }

  /** What `told` gives, as a text with places that `format` of PostgreSQL fills: its duration, and whether it can be reversed. */
  toldInPlaces(): string {
    return `${placesOf(this.definition).run}"startedAt":"${this.#startedAt}","durationMs":%1$s,"reversible":"%2$s"}`
  }

  /**
   * What `toldSteps` gives, with places for the counts of each step, and behind them for binds that an earlier step gives.
   *
   * @param binds those of each step; LATE where an earlier step gives it
   */
  stepsInPlaces(binds: readonly (readonly (string | null | typeof LATE)[])[]): string {
    const { steps } = placesOf(this.definition)
    let late = TEXTS_A_STEP * steps.length
    const told = steps.map(({ before, after, sensitive }, at) => {
      const shown = (binds[at] ?? []).map((bind, place) => {
        if (bind === LATE) return `%${++late}$s`
        return jsonInPlaces(sensitive[place] ? kept([bind], [true])[0] : bind)
      })
      return `${before}${shown.join()}${after}`
    })
    return `[${told.join()}]`
  }

  /** Writes the entry, in the run's own transaction. Its images were written by the steps themselves. */
  async book(client: ClientBase): Promise<void> {
    const { actor, note } = current()
    const total = (of: 'matched' | 'changed') =>
      String(
        this.definition.steps.reduce((sum, { no, writes }) => sum + (writes ? (this.#done.get(no)?.[of] ?? 0) : 0), 0),
      )
    await ask(
      client,
      `insert into ledgerman.entry (id, at, actor, outcome, note, matched, changed, run, steps)
values ($1::uuid, pg_catalog.clock_timestamp(), $2, 'committed', $3, $4::integer, $5::integer, $6::jsonb, $7::json)`,
      [
        this.id,
        actor,
        note,
        total('matched'),
        total('changed'),
        JSON.stringify(this.told(performance.now() - this.#started)),
        JSON.stringify(this.toldSteps(true)),
      ],
    )
  }

  /** What the book says of the run; of one that was refused, with no time and nothing to put back. */
  told(durationMs: number | null) {
    const { transaction, revision, isolation, definitions } = this.definition
    return {
      transaction,
      revision,
      isolation,
      attempts: 1,
      durationMs: durationMs && Math.round(durationMs * 10) / 10,
      startedAt: this.#startedAt,
      reversible: durationMs === null ? null : this.#reversible(),
      definitions,
    }
  }

  #reversible(): 'yes' | 'partly' | 'no' {
    const wrote = this.definition.steps
      .filter(({ no, writes }) => writes && (this.#done.get(no)?.changed ?? 0) > 0)
      .map(({ reversible }) => reversible)
    if (wrote.every((each) => each === 'yes')) return 'yes'
    return wrote.every((each) => each === 'no') ? 'no' : 'partly'
  }

  /** Its steps; of a run that was refused, as far as it came. */
  toldSteps(isWhole: boolean): object[] {
    const last = Math.max(0, ...this.#done.keys())
    const steps = this.definition.steps.filter(({ no }) => isWhole || no <= last)
    return steps.map(({ no, name, expected, statement }) => {
      const done = this.#done.get(no)
      const values = done?.values.slice(0, statement.binds.length) ?? []
      return {
        no,
        name,
        statement: idOf(statement),
        binds: kept(
          values,
          statement.binds.map(({ sensitive }) => sensitive),
        ),
        expected,
        matched: done?.matched ?? null,
        changed: done?.changed ?? null,
        skipped: done === undefined,
        duration_ms: done ? Math.round(done.ms * 10) / 10 : null,
      }
    })
  }
}

interface Places {
  run: string
  steps: readonly { before: string; after: string; sensitive: readonly boolean[] }[]
}

const places = new WeakMap<RunDefinition, Places>()

/** What does not differ from one run to the next, of the texts that PostgreSQL fills. */
function placesOf(definition: RunDefinition): Places {
  let known = places.get(definition)
  if (known === undefined) places.set(definition, (known = makePlaces(definition)))
  return known
}

function makePlaces({ transaction, revision, isolation, definitions, steps }: RunDefinition): Places {
  const open = (value: object) => jsonInPlaces(value).slice(0, -1)
  return {
    run: `${open({ transaction, revision, isolation, attempts: 1, definitions })},`,
    steps: steps.map(({ no, name, expected, statement }) => {
      const place = (of: number) => `%${TEXTS_A_STEP * (no - 1) + of}$s`
      return {
        before: `${open({ no, name, statement: idOf(statement), expected })},"binds":[`,
        after: `],"matched":${place(1)},"changed":${place(2)},"skipped":${place(3)},"duration_ms":null}`,
        sensitive: statement.binds.map((bind) => bind.sensitive),
      }
    }),
  }
}

/** JSON in which no percent sign is taken for a place. */
function jsonInPlaces(value: unknown): string {
  const text = JSON.stringify(value)
  return text.includes('%') ? text.replaceAll('%', '%%') : text
}
