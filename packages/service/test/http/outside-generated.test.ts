import fc from 'fast-check'
import { isProblem } from '@ledgerman/contract'
import { holdsFor } from '../../../../testing/generated.js'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'
import { jobEnds } from '../job-ends.js'
import { makeLamps } from '../lamps.js'

// Records that are changed through Ledgerman and past it, in turn: what it says of the past is so, or it says that it is not sure.
const ROUNDS = Number(process.env['LEDGERMAN_TEST_OUTSIDE'] ?? 12)
const LAMPS = [1, 2]
const PROPERTIES = ['a', 'b', 'rowVersion']
let service: RunningService
const { run } = jobEnds(() => service)
const sql = (text: string, values?: unknown[]) => service.observatory.sql(text, values)
const target = () => service.client.target('observatory')
const commit = { mode: 'commit' as const, guard: '*' }

const id = fc.constantFrom(...LAMPS)
const property = fc.constantFrom('a' as const, 'b' as const)
const images = fc.constantFrom('full' as const, 'changed' as const, 'none' as const)
const step = fc.oneof(
  fc.record({ do: fc.constant('change' as const), id, property }),
  fc.record({ do: fc.constant('remove' as const), id }),
  fc.record({ do: fc.constant('add' as const), id }),
  fc.record({ do: fc.constant('job' as const), property, images }),
  fc.record({ do: fc.constant('undo' as const), back: fc.integer({ min: 0, max: 2 }) }),
  fc.record({ do: fc.constant('outside' as const), id, property, isBumped: fc.boolean() }),
  fc.record({ do: fc.constant('outside remove' as const), id }),
  fc.record({ do: fc.constant('outside add' as const), id }),
)
type Step = typeof step extends fc.Arbitrary<infer S> ? S : never

beforeAll(async () => {
  service = await startTestService()
  await makeLamps(service)
})
afterAll(() => service.stop())

/** No value comes twice: what was put back by somebody else nobody can see. */
let next = 100
const value = (name: 'a' | 'b') => (name === 'a' ? next++ : `b${next++}`)

async function perform(each: Step): Promise<void> {
  const ignore = () => undefined
  switch (each.do) {
    case 'change':
      await target()
        .change('lamp', [String(each.id)], { [each.property]: value(each.property) }, commit)
        .catch(ignore)
      return
    case 'remove':
      await target()
        .remove('lamp', [String(each.id)], commit)
        .catch(ignore)
      return
    case 'add':
      await target()
        .add('lamp', { id: each.id, a: value('a'), b: value('b') }, { mode: 'commit' })
        .catch(ignore)
      return
    case 'job': {
      const values = { [each.property]: value(each.property) }
      const all = { mapping: 'lamp', where: 'id > 0', everyRow: true, expect: 'any' }
      expect((await run({ mode: 'commit', ...all, images: each.images, values })).problem).toBeNull()
      return
    }
    case 'undo': {
      const entry = (await target().entries({ outcome: 'committed', limit: 5 })).entries[each.back]
      if (entry) await target().reverse(entry.id, { mode: 'commit' }).catch(ignore)
      return
    }
    case 'outside':
      await sql(
        `update lamp set ${each.property} = $1${each.isBumped ? ', row_version = row_version + 1' : ''} where id = $2`,
        [value(each.property), each.id],
      )
      return
    case 'outside remove':
      await sql('delete from lamp where id = $1', [each.id])
      return
    case 'outside add':
      await sql('insert into lamp values ($1, $2, $3) on conflict do nothing', [each.id, value('a'), value('b')])
  }
}

type Lamp = Record<string, unknown>
const lamps = async () =>
  new Map(
    (await sql('select id, a, b, row_version as "rowVersion" from lamp')).map((row) => [
      row['id'] as number,
      row as Lamp,
    ]),
  )

/** Of which properties of a record the book knows what they were left with, and whether something else was changed where it cannot see it. */
class Sight {
  readonly #known = new Set<string>()
  #wasRemoved = false
  isLost = false

  see(each: Step, before: Lamp | undefined, after: Lamp | undefined): void {
    const changed = PROPERTIES.filter((name) => before?.[name] !== after?.[name])
    if (changed.length === 0) return
    const isBooked = !each.do.startsWith('outside') && !(each.do === 'job' && each.images === 'none')
    const isWhole = !before || !after || (each.do === 'job' && each.images === 'full')
    if (isBooked) {
      for (const name of isWhole ? PROPERTIES : changed) this.#known.add(name)
      this.#wasRemoved = !after
    } else if (!after && this.#wasRemoved) this.isLost = true
    else if (each.do !== 'job') this.isLost ||= !changed.some((name) => this.#known.has(name))
  }
}

it('what is said to be sure of a record as it was is so', async () => {
  await holdsFor(
    ROUNDS,
    fc.asyncProperty(fc.array(step, { minLength: 2, maxLength: 10 }), async (steps) => {
      await sql(
        `truncate lamp, ledgerman.entry, ledgerman.image, ledgerman.image_block; insert into lamp values (1, 1, 'b1'), (2, 2, 'b2')`,
      )
      const sight = new Map(LAMPS.map((each) => [each, new Sight()]))
      const seen: { at: string; was: Map<number, Lamp> }[] = []
      let now = await lamps()
      for (const each of steps) {
        await perform(each)
        const [moment] = await sql(
          `select to_char(clock_timestamp() at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at`,
        )
        const was = await lamps()
        for (const one of LAMPS) sight.get(one)?.see(each, now.get(one), was.get(one))
        seen.push({ at: String(moment?.['at']), was })
        now = was
      }
      const isOutside = steps.some(
        (each) => each.do.startsWith('outside') || (each.do === 'job' && each.images === 'none'),
      )
      for (const one of LAMPS.filter((each) => sight.get(each)?.isLost === false)) {
        const { history } = await target()
          .history('lamp', [String(one)], { limit: 100 })
          .catch(nothingKnown)
        if (!isOutside) expect(history.filter(({ kind }) => kind === 'outside')).toEqual([])
        for (const { at, was } of seen) {
          const told = await target()
            .loadAsOf('lamp', [String(one)], at)
            .catch(nothingKnown)
          expect(told.sure || isOutside).toBe(true)
          if (told.sure) expect([at, told.record]).toEqual([at, was.get(one) ?? null])
        }
      }
    }),
  )
})

function nothingKnown(error: unknown) {
  if (!isProblem(error, 'no-such-record')) throw error
  return { record: null, sure: true, history: [] as { kind: string }[] }
}

it('is told to the microsecond, and not surely where the book cannot know', async () => {
  const { receipt } = await target().add('telescope', { code: 'HF6', name: 'Six', apertureM: '0.60' })
  const asOf = (at: string) => target().loadAsOf('telescope', ['HF6'], at)
  const micros = async (by: number) => {
    const [row] = await sql(
      `select to_char((at + $2 * interval '1 microsecond') at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"') as at from ledgerman.entry where id = $1`,
      [receipt.id, by],
    )
    return String(row?.['at'])
  }
  expect(await asOf(await micros(-1))).toMatchObject({ record: null, sure: true })
  expect(await asOf(await micros(0))).toMatchObject({ record: { name: 'Six' }, sure: true })
  const between = await micros(1)
  const job = { mapping: 'telescope', where: "code = 'HF6'", values: { name: 'Sixth' }, images: 'none', expect: 1 }
  const { entries } = await run({ mode: 'commit', ...job })
  expect(await asOf(between)).toMatchObject({
    sure: false,
    because: expect.stringContaining(`entry ${entries[0]} changed records without images`) as string,
  })
  expect(await target().loadAsOf('programme', ['P-101'], between)).toMatchObject({ sure: true })
})
