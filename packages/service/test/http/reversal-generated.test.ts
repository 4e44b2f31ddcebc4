import fc from 'fast-check'
import { isProblem, type RunInput } from '@ledgerman/contract'
import { holdsFor } from '../../../../testing/generated.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'
import { makeLamps } from '../lamps.js'

// Runs of every mixture are put back, one of them at a time, whatever happened to the same records since.
const ROUNDS = Number(process.env['LEDGERMAN_TEST_REVERSALS'] ?? 15)
let service: RunningService
const sql = (text: string, values?: unknown[]) => service.observatory.sql(text, values)
const target = () => service.client.target('observatory')

const NAMES = ['a', 'b'] as const
const id = fc.constantFrom(1, 2, 3)
const properties = fc.subarray([...NAMES], { minLength: 1 })
const step = fc.oneof(
  fc.record({ do: fc.constant('change' as const), id, properties }),
  fc.record({ do: fc.constant('many' as const), above: fc.constantFrom(0, 1), properties }),
  fc.record({ do: fc.constant('remove' as const), id }),
  fc.record({ do: fc.constant('add' as const), id }),
  fc.record({ do: fc.constant('replace' as const), id }),
)
const event = fc.oneof(
  { weight: 4, arbitrary: fc.record({ run: fc.array(step, { minLength: 1, maxLength: 4 }) }) },
  { weight: 1, arbitrary: fc.record({ outside: id }) },
)
const story = fc.record({
  events: fc.array(event, { minLength: 1, maxLength: 4 }),
  which: fc.nat(3),
  onlyUnchanged: fc.boolean(),
})
type Story = typeof story extends fc.Arbitrary<infer S> ? S : never
type Step = typeof step extends fc.Arbitrary<infer S> ? S : never

interface Row {
  a: number | null
  b: string | null
}
type State = Map<number, Row>
interface Image {
  id: number
  before: Row | null
  after: Row | null
}

beforeAll(async () => {
  service = await startTestService()
  await makeLamps(service, 'rules: [{ that: a > 0, otherwise: Never below zero. }]')
})
afterAll(() => service.stop())

let next = 100
const fresh = (names: readonly (keyof Row)[]): Partial<Row> =>
  Object.fromEntries(names.map((name) => [name, name === 'a' ? next++ : `b${next++}`]))

/** Writes the values to rows that are there. @returns their images; null where one is not */
function change(state: State, ids: readonly number[], values: Partial<Row>): Image[] | null {
  if (!ids.every((one) => state.has(one))) return null
  return ids.map((one) => write(state, one, { ...(state.get(one) as Row), ...values }))
}

function write(state: State, one: number, after: Row | null): Image {
  const before = state.get(one) ?? null
  if (after) state.set(one, after)
  else state.delete(one)
  return { id: one, before, after }
}

/** A step as Ledgerman takes it, and what it does: images, or null where it is refused. */
function planned(each: Step): { step: object; apply(state: State): Image[] | null } {
  const values = fresh('properties' in each ? each.properties : NAMES)
  const at = 'id' in each ? { key: { id: each.id }, guard: 'any' } : {}
  switch (each.do) {
    case 'change':
      return { step: { change: 'lamp', ...at, values }, apply: (state) => change(state, [each.id], values) }
    case 'replace': {
      const step = { replace: 'lamp', ...at, values: { id: each.id, ...values } }
      return { step, apply: (state) => change(state, [each.id], values) }
    }
    case 'many': {
      const step = { change: 'lamp', where: `id > ${each.above}`, values, expect: 'any', everyRow: true }
      const above = (state: State) => [...state.keys()].filter((one) => one > each.above)
      return { step, apply: (state) => change(state, above(state), values) }
    }
    case 'remove': {
      const apply = (state: State) => (state.has(each.id) ? [write(state, each.id, null)] : null)
      return { step: { remove: 'lamp', ...at }, apply }
    }
    case 'add': {
      const apply = (state: State) => (state.has(each.id) ? null : [write(state, each.id, values as Row)])
      return { step: { add: 'lamp', values: { id: each.id, ...values } }, apply }
    }
  }
}

/** Puts images back where rows are as they were left. @returns null where one is not, and all have to be */
function putBack(state: State, steps: readonly Image[][], onlyUnchanged: boolean): State | null {
  const now = new Map(state)
  for (const { id: one, before, after } of [...steps].reverse().flat()) {
    const row = now.get(one) ?? null
    const changed = NAMES.filter((name) => !before || !after || before[name] !== after[name])
    const isLeft = after === null ? row === null : row !== null && changed.every((name) => row[name] === after[name])
    if (!isLeft && !onlyUnchanged) return null
    const restored = Object.fromEntries(changed.map((name) => [name, before?.[name]]))
    if (isLeft) write(now, one, before && ({ ...row, ...restored } as Row))
  }
  return now
}

const stored = async (): Promise<State> =>
  new Map(
    (await sql('select id, a, b from lamp')).map((row) => [row['id'] as number, { a: row['a'], b: row['b'] } as Row]),
  )
const sorted = (state: State) => [...state].sort(([one], [other]) => one - other)
const codeOf = (error: unknown) => (isProblem(error) ? error.code : String(error))

/** Runs the steps. @returns the entry, with its images step by step, and what is stored then; null where a step refuses, as it has to */
async function perform(run: readonly Step[], before: State) {
  const steps = run.map(planned)
  const state = new Map(before)
  const images: Image[][] = []
  for (const one of steps) {
    const made = one.apply(state)
    if (made === null) break
    images.push(made)
  }
  const isRefused = images.length < steps.length
  const asked = target().run({ mode: 'commit', steps: steps.map((one) => one.step) } as unknown as RunInput)
  const entry = await asked.then(({ id: done }) => done, codeOf)
  expect(['no-such-record', 'constraint-broken'].includes(entry)).toBe(isRefused)
  return isRefused ? null : { entry, images, state }
}

async function tell({ events, which, onlyUnchanged }: Story): Promise<void> {
  await sql(`truncate lamp; insert into lamp values (1, 1, 'b1'), (2, 2, 'b2')`)
  let state = await stored()
  const runs: { entry: string; images: Image[][] }[] = []
  for (const each of events) {
    if ('run' in each) {
      const done = await perform(each.run, state)
      if (done) runs.push(done)
      state = done?.state ?? state
    } else {
      await sql(`update lamp set a = $1, row_version = row_version + 1 where id = $2`, [next, each.outside])
      const row = state.get(each.outside)
      if (row) state.set(each.outside, { ...row, a: next })
      next++
    }
  }
  expect(sorted(await stored())).toEqual(sorted(state))
  const chosen = runs[which % Math.max(1, runs.length)]
  if (!chosen || chosen.images.flat().length === 0) return

  const expected = putBack(state, chosen.images, onlyUnchanged)
  const reversal = target().reverse(chosen.entry, { mode: 'commit', onlyUnchanged })
  const reversed = await reversal.then(({ id: done }) => done, codeOf)
  if (expected === null) expect(reversed).toBe('reversal-conflict')
  expect(sorted(await stored())).toEqual(sorted(expected ?? state))
  if (expected === null) return
  // A reversal is put back like anything else.
  const isNothing = JSON.stringify(sorted(expected)) === JSON.stringify(sorted(state))
  const again = await target()
    .reverse(reversed, { mode: 'commit' })
    .then(() => 'done', codeOf)
  if (again !== 'done') expect([again, isNothing]).toEqual(['not-reversible', true])
  expect(sorted(await stored())).toEqual(sorted(state))
}

it('comes to what its images say, and so does its own reversal', async () => {
  await holdsFor(ROUNDS, fc.asyncProperty(story, tell))
})
