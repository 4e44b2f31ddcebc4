import { resolvePlan, type Mapping } from '@ledgerman/core'
import type { StepDefinition } from '@ledgerman/contract'
import { openOwnTables, type OwnTables } from '../../../../testing/own-tables.js'
import { buildOneStatement } from '../../src/plan/one-statement/build-one-statement.js'
import { buildSharedRun } from '../../src/plan/one-statement/build-shared-run.js'
import { isWrite, shownStatement } from '../../src/plan/plan.js'
import { buildAdd } from '../../src/statement/build-add.js'
import { buildKeyedWrite, type KeyedShape } from '../../src/statement/build-keyed-write.js'
import type { KeyedStatement } from '../../src/statement/keyed-statement.js'
import type { Statement } from '../../src/statement/statement.js'

// Texts of statements as they are sent, so that every difference in one is seen, and meant. What they do the other tests say.

let own: OwnTables
const mappings: Record<string, Mapping> = {}

beforeAll(async () => {
  own = await openOwnTables()
  const map = async (name: string, ddl: string, difference: object = {}) => {
    mappings[name] = await own.mapped(`public.${name}`, ddl, difference)
  }
  await map(
    'allocation',
    `create table allocation (id integer primary key, code text not null unique, hours numeric(6,2), doc jsonb, row_version integer not null default 1)`,
    { guard: { by: 'version', property: 'rowVersion' }, rules: [{ that: 'hours >= 0', otherwise: 'no hours left' }] },
  )
  await map('pixel', `create table pixel (x integer, y integer, tint text, primary key (x, y))`, {
    guard: { by: 'values' },
  })
  await map('stamped_plate', `create table stamped_plate (id integer primary key, note text)`, {
    guard: { by: 'rowStamp' },
  })
  await map('seen', `create view seen as select id, code from allocation`, { key: ['id'], guard: { by: 'none' } })
  await map(
    'telescope_part',
    `create table telescope_part (id integer primary key, note text); create table lens (width integer) inherits (telescope_part)`,
    { guard: { by: 'none' } },
  )
  await map('contact', `create table contact (id integer primary key, mail text, name text)`, {
    guard: { by: 'none' },
    properties: {
      id: { column: 'id' },
      mail: { column: 'mail', sensitive: true },
      name: { column: 'name' },
    },
  })
})
afterAll(() => own.close())

const of = (name: string, ...properties: string[]) => {
  const mapping = mappings[name] as Mapping
  return { mapping, set: mapping.properties.filter((each) => properties.includes(each.name)) }
}
const change = (name: string, properties: string[], more: Partial<KeyedShape> = {}) => {
  const { mapping, set } = of(name, ...properties)
  return buildKeyedWrite(
    mapping,
    { kind: 'change', set, merges: new Map(), expected: [], guarded: false, ...more },
    true,
  )
}
const texts = ({ step, run, shared }: KeyedStatement) => [step, run, ...(shared ? [shared] : [])].map(shown)
const shown = ({ text, slots }: Statement) =>
  `${text}\n\n${slots.map(({ name, type, source }, at) => `$${at + 1} ${name} ${type} from ${source.from}`).join('\n')}`

const typed = (types: Record<string, string>) =>
  Object.fromEntries(Object.entries(types).map(([name, type]) => [name, { type, nullable: false, rules: [] }]))
const plan = (steps: StepDefinition[], types: Record<string, string> = {}) =>
  resolvePlan(own.target, { params: typed(types), steps }, 'golden', 1, (name) =>
    Promise.resolve(mappings[name] as Mapping),
  )

describe('keyed statements', () => {
  it.each<[string, () => KeyedStatement]>([
    ['a change under a version, with a rule', () => change('allocation', ['hours'], { guarded: true })],
    ['a change of a unique key', () => change('allocation', ['code'], { guarded: true })],
    ['a change under any state', () => change('pixel', ['tint'])],
    ['a change under all values', () => change('pixel', ['tint'], { guarded: true })],
    ['a change under a row stamp', () => change('stamped_plate', ['note'], { guarded: true })],
    ['a change with values expected', () => change('pixel', ['tint'], { expected: of('pixel', 'tint').set })],
    ['a change of a view', () => change('seen', ['code'])],
    ['a change where others inherit', () => change('telescope_part', ['note'])],
    ['a change of what must not be shown', () => change('contact', ['mail', 'name'])],
    ['an addition', () => buildAdd(of('allocation').mapping, of('allocation', 'id', 'code').set, true)],
    ['an addition of defaults only', () => buildAdd(of('pixel').mapping, [], true)],
    ['a removal', () => change('allocation', [], { kind: 'remove', guarded: true })],
    ['a removal of a row of a view', () => change('seen', [], { kind: 'remove' })],
  ])('%s', (_, build) => {
    for (const text of texts(build())) expect(text).toMatchSnapshot()
  })
})

describe('steps', () => {
  it.each<[string, StepDefinition, Record<string, string>?]>([
    ['a load by key', { load: 'allocation', as: 'one', key: { id: '1' } }],
    ['a change by key', { change: 'allocation', key: { id: '1' }, guard: 'any', compute: { hours: 'hours / 2' } }],
    ['a removal by key', { remove: 'stamped_plate', key: { id: '1' }, guard: 'any' }],
    [
      'a load that locks',
      { load: 'allocation', where: 'hours > :h', expect: 'some', lock: 'change' },
      { h: 'numeric' },
    ],
    [
      'a change by condition, computed',
      { change: 'allocation', where: `code like 'A%'`, expect: 'any', compute: { hours: 'hours / 2' } },
    ],
    ['a change of all', { change: 'pixel', where: 'true', expect: 'any', everyRow: true, values: { tint: 'red' } }],
    [
      'a change where others inherit',
      { change: 'telescope_part', where: `note = 'x'`, expect: 'any', values: { note: 'y' } },
    ],
    ['a removal by condition', { remove: 'pixel', where: 'x = 1', expect: '1..3' }],
    ['an addition that keeps what is there', { add: 'pixel', values: { x: 1, y: 2 }, onExisting: 'keep' }],
    [
      'an addition that changes what is there',
      { add: 'pixel', values: { x: 1, y: 2, tint: 'b' }, onExisting: 'change' },
    ],
  ])('%s', async (_, step, params = {}) => {
    for (const each of (await plan([step], params)).steps) {
      expect(shown(shownStatement(each))).toMatchSnapshot()
      if (isWrite(each)) expect(shown(each.run)).toMatchSnapshot()
    }
  })
})

describe('runs', () => {
  const transfer: StepDefinition[] = [
    { load: 'allocation', as: 'both', where: 'id in (:from, :to)', expect: 2, lock: 'change' },
    { load: 'allocation', as: 'giver', key: { id: ':from' } },
    { require: 'giver.hours >= :hours', otherwise: 'too few' },
    { change: 'allocation', key: { id: ':from' }, guard: 'any', compute: { hours: 'hours - :hours' } },
    { change: 'allocation', key: { id: ':to' }, guard: 'any', compute: { hours: 'hours + :hours' } },
  ] as StepDefinition[]
  const params = { from: 'integer', to: 'integer', hours: 'numeric' }

  it('as one statement', async () => {
    const text = buildOneStatement(await plan(transfer, params))
    expect(text && shown(text)).toMatchSnapshot()
  })

  it('as one statement, with an addition and a condition', async () => {
    const more = [
      { add: 'pixel', when: ':hours > 10', values: { x: 1, y: 1 } },
      { remove: 'stampedPlate', key: { id: '1' }, guard: 'any' },
    ]
    mappings['stampedPlate'] = mappings['stamped_plate'] as Mapping
    const text = buildOneStatement(await plan([...transfer, ...more] as StepDefinition[], params))
    expect(text && shown(text)).toMatchSnapshot()
  })

  it('of several callers', async () => {
    const text = buildSharedRun(await plan(transfer, params))
    expect(text && shown(text)).toMatchSnapshot()
  })
})
