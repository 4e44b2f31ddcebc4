import { isJudgedHere } from '../../code/judged-here.js'
import { isRowRead, isWrite, type Plan, type PlannedStep } from '../../plan/plan.js'
import type { HookedSession, RunHooks } from '../../run/steps/run-request.js'
import type { Statement } from '../../statement/statement.js'
import type { Rows } from '../../sessions/queryable.js'

/** The parts of a client of node-postgres that the written code, and a drill, use. */
interface Client {
  processID: number
  query(...words: unknown[]): Promise<unknown>
  release(isBroken?: boolean): void
  on(event: 'error', listener: () => void): unknown
  off(event: 'error', listener: () => void): unknown
  connection?: { stream: { destroy(): void } }
}

interface Pool {
  connect(): Promise<Client>
  query(...words: unknown[]): Promise<unknown>
}

/**
 * A pool for the written code that tells a drill where a run is: which statement belongs to which step is known by its text.
 *
 * @param onSession told of each session that a run takes.
 */
export function hookedPool(pool: unknown, plan: Plan, hooks: RunHooks, onSession?: (pid: number) => void) {
  const real = pool as Pool
  return {
    // By this the code knows a pool from a client.
    totalCount: 1,
    query: (...words: unknown[]) => real.query(...words),
    async connect() {
      const client = await real.connect()
      onSession?.(client.processID)
      const hooked = new HookedClient(client, plan, hooks)
      return {
        query: (...words: unknown[]) => hooked.query(...words),
        release: (isBroken?: boolean) => client.release(isBroken),
        on: (event: 'error', listener: () => void) => client.on(event, listener),
        off: (event: 'error', listener: () => void) => client.off(event, listener),
      }
    },
  }
}

class HookedClient {
  readonly #steps: readonly ({ no: number } & StepTexts)[]
  readonly #session: HookedSession
  /** The step whose statements are being sent; 0 before the first, null behind the last. */
  #at: number | null = 0
  /** The last step that it has left. */
  #behind = 0
  /** Whether the statement of that step was sent, and not only what is asked before it. */
  #isSent = false

  constructor(
    readonly client: Client,
    plan: Plan,
    readonly hooks: RunHooks,
  ) {
    this.#steps = plan.steps.map((step) => ({ no: step.no, ...textsOf(step) }))
    this.#session = {
      query: async (text) => (await client.query(text)) as Rows,
      breakOff: () => client.connection?.stream.destroy(),
    }
  }

  async query(...words: unknown[]): Promise<unknown> {
    const [first] = words
    const text = (typeof first === 'string' ? first : (first as { text: string }).text).trim()
    if (text.startsWith('begin ')) [this.#at, this.#behind] = [0, 0]
    else if (text === 'commit') {
      await this.#leave()
      await this.#passBefore(Infinity)
      await this.hooks.beforeCommit?.(this.#session)
      if (this.hooks.commit) return this.hooks.commit(this.#session)
    } else if (text.startsWith('insert into ledgerman.entry ')) {
      await this.#leave()
      await this.#passBefore(Infinity)
    } else await this.#enter(text)
    return this.client.query(...words)
  }

  async #enter(text: string): Promise<void> {
    const at = this.#at ?? Infinity
    if (this.#steps.find(({ no }) => no === at)?.look.has(text)) {
      this.#isSent = false
      return
    }
    // Two steps may have the same statement: sent once more it is the next one's.
    const step = this.#steps.find(({ no, own, before }) =>
      no === at ? !this.#isSent && (own.has(text) || before.has(text)) : no > at && (own.has(text) || before.has(text)),
    )
    if (!step) return
    const isNext = step.no !== at
    if (isNext) {
      await this.#leave()
      await this.#passBefore(step.no)
    }
    this.#at = step.no
    this.#isSent = step.own.has(text)
    if (isNext) await this.hooks.beforeStep?.(step.no, this.#session)
  }

  async #leave(): Promise<void> {
    const at = this.#at
    this.#at = null
    if (at === null || at === 0) return
    this.#behind = at
    await this.hooks.afterStep?.(at, this.#session)
  }

  /** Tells of the steps before another that the code judges itself, and sends no statement for. */
  async #passBefore(next: number): Promise<void> {
    for (const { no, isSilent } of this.#steps) {
      if (!isSilent || no <= this.#behind || no >= next) continue
      this.#behind = no
      await this.hooks.beforeStep?.(no, this.#session)
      await this.hooks.afterStep?.(no, this.#session)
    }
  }
}

interface StepTexts {
  own: Set<string>
  /** What is asked before it. */
  before: Set<string>
  /** What is asked where it wrote nothing: it may be sent once more behind that. */
  look: Set<string>
  isSilent: boolean
}

function textsOf(step: PlannedStep): StepTexts {
  const inCode = isWrite(step) ? step.inCode(isRowRead(step)) : null
  const own =
    step.kind === 'require'
      ? [step.judgement.statement]
      : inCode
        ? [inCode.write, inCode.booked]
        : [step.kind === 'load' ? step.inCode() : (step as { statement: Statement }).statement]
  const when = step.when ? [step.when.statement] : []
  const found = 'foundKeys' in step && step.foundKeys ? [step.foundKeys] : []
  const texts = (statements: readonly { text: string }[]) => new Set(statements.map(({ text }) => text.trim()))
  const mayBeSilent = [...(step.kind === 'require' ? own : []), ...when]
  return {
    own: texts(own),
    before: texts([...when, ...found]),
    // What is to add or change asks the same again, where somebody may have added the record meanwhile.
    look: texts(
      inCode?.look ? [inCode.look] : isWrite(step) && step.shape.kind === 'add' && step.shape.looks ? own : [],
    ),
    // A load may find its row among those that were locked before.
    isSilent: step.kind === 'load' || mayBeSilent.some(isJudgedHere),
  }
}
