import fc from 'fast-check'
import { parse } from 'yaml'
import { isProblem } from '@ledgerman/contract'
import { startTestService, type RunningService } from '../../../../testing/running-service.js'
import { makeLamps } from '../lamps.js'

// Statements with conditions and calculations of every shape: what is adopted finds the same rows, and gives them the same values.
const STATEMENTS = Number(process.env['LEDGERMAN_TEST_ADOPTED'] ?? 40)
let service: RunningService

const number = fc.letrec<{ any: string }>((tie) => ({
  any: fc.oneof(
    { depthSize: 'small', withCrossShrink: true },
    fc.constantFrom('a', 'id', 'row_version', '3', '-2', '7'),
    fc
      .tuple(tie('any'), fc.constantFrom('+', '-', '*'), tie('any'))
      .chain(([left, sign, right]) => fc.constantFrom(`${left} ${sign} ${right}`, `(${left} ${sign} ${right})`)),
  ),
})).any
const condition = fc.letrec<{ any: string }>((tie) => ({
  any: fc.oneof(
    { depthSize: 'small', withCrossShrink: true },
    fc.tuple(number, fc.constantFrom('=', '<>', '<', '>', '<=', '>='), number).map((parts) => parts.join(' ')),
    fc.constantFrom(
      'a is null',
      'a is not null',
      "b = 'b1'",
      "b <> 'it''s'",
      "b || 'x' = 'b2x'",
      'b is null',
      'id in (1, 4, 6)',
    ),
    fc.tuple(tie('any'), fc.constantFrom('and', 'or'), tie('any')).map((parts) => parts.join(' ')),
    fc
      .tuple(tie('any'), fc.constantFrom('and', 'or'), tie('any'))
      .map(([left, word, right]) => `(${left}) ${word} (${right})`),
    tie('any').map((inner) => `not (${inner})`),
  ),
})).any

beforeAll(async () => {
  service = await startTestService()
  await makeLamps(service)
  await service.observatory.sql(
    `insert into lamp (id, a, b) values (1, 1, 'b1'), (2, null, 'b2'), (3, -3, null), (4, 7, 'it''s'), (5, 20, 'b1'), (6, 0, ''), (7, null, null), (8, 3, 'b2')`,
  )
})
afterAll(() => service.stop())

it('what is adopted does what the statement did', async () => {
  const statements = fc.sample(fc.tuple(condition, number), STATEMENTS)
  const { adopted } = await service.client.target('observatory').adopt({
    files: [
      {
        path: 'lamps.sql',
        text: statements.map(([where, value]) => `update lamp set a = ${value} where ${where};`).join('\n'),
      },
    ],
  })
  expect(adopted).toHaveLength(STATEMENTS)
  let said = 0
  for (const [at, [where, value]] of statements.entries()) {
    const { source, problem } = adopted[at] as { source: string; problem: string | null }
    expect({ where, value, source, problem }).toMatchObject({ problem: null })
    const { steps } = parse(source) as { steps: unknown[] }
    const wanted = await service.observatory.sql(
      `select id, (${value})::integer as a from lamp where ${where} order by id`,
    )
    const [step] = steps as { sql?: string }[]
    const isSaid = step?.sql === undefined
    if (isSaid) said++
    const receipt = await service.client
      .target('observatory')
      .run({ mode: 'rehearse', steps: [{ ...step, ...(isSaid && { everyRow: true }) }] } as never)
      .catch((error: unknown) => {
        // Where a key is named one record is meant, and one that is not there is said.
        if (!isProblem(error, 'no-such-record', 'count-mismatch') || wanted.length > 0)
          throw new Error(JSON.stringify({ where, value, step, wanted }), { cause: error })
        return undefined
      })
    if (!receipt) continue
    const found = receipt.steps[0]
    const written = Object.fromEntries(
      (found?.rows ?? []).map(({ key, after }) => [Number(key?.['id']), (after as { a?: number } | null)?.a]),
    )
    const before = Object.fromEntries(
      (await service.observatory.sql('select id, a from lamp')).map(({ id, a }) => [Number(id), a]),
    )
    expect({ where, value, step, matched: found?.matched }).toMatchObject({ matched: wanted.length })
    if (isSaid)
      for (const { id, a } of wanted)
        expect({
          where,
          value,
          step,
          id,
          a: Object.hasOwn(written, Number(id)) ? written[Number(id)] : before[Number(id)],
        }).toEqual({
          where,
          value,
          step,
          id,
          a,
        })
  }
  // Most can be said in the words of the mapping.
  expect(said).toBeGreaterThan(STATEMENTS / 3)
})
