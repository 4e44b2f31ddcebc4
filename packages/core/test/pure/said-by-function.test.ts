import { processorCost } from '../../../../testing/processor.js'
import type { DatabaseError } from '../../src/sessions/database-error.js'
import { withoutSaid } from '../../src/target/problem/said-by-function.js'

const error = (message: string, routine = 'exec_stmt_raise') =>
  Object.assign(new Error(message), { code: 'P0001', severity: 'ERROR', routine }) as DatabaseError
const context = (refusals: string[], sensitive = true) =>
  ({ target: 'observatory', mapping: { properties: [{ sensitive }], table: { refusals } } }) as never
const told = (message: string, refusals: string[]) => withoutSaid(error(message), context(refusals)).message
const LEFT_OUT = 'what it says is left out, since a sensitive value may stand in it'

describe('what a function says where a sensitive value may stand in it', () => {
  it.each([
    ['bad pin 4711 of 12.00', ['Too late.', 'bad pin % of %'], 'bad pin … of …'],
    ['Too late.', ['Too late.', 'bad pin %'], 'Too late.'],
    ['100% of 4711', ['100%% of %'], '100% of …'],
    ['4711 of % and 4711', ['% of %% and %'], '… of % and …'],
    ['aa', ['a%a'], 'a…a'],
    ['a', ['a%a'], LEFT_OUT],
    ['bad pin 4711 indeed', ['bad pin % of %'], LEFT_OUT],
    ['4711', [], LEFT_OUT],
    ['4711', ['%'], '…'],
    ['staged by the drill', [], 'staged by the drill'],
  ])('of %j, where triggers say %j, is %j', (message, refusals, shown) => expect(told(message, refusals)).toBe(shown))

  it('is told with its state and as an error, and as it is where nothing is sensitive or the server says it', () => {
    const told = withoutSaid(error('4711'), context([]))
    expect([told.code, told instanceof Error, 'severity' in told]).toEqual(['P0001', true, true])
    expect(withoutSaid(error('4711'), context([], false)).message).toBe('4711')
    expect(withoutSaid(error('no such thing', 'ExecInsert'), context([])).message).toBe('no such thing')
  })

  it('is found in the time that reading takes, however many values it has', async () => {
    const long = () => expect(told(`${'a'.repeat(200_000)}b`, ['%a'.repeat(500)])).toBe(LEFT_OUT)
    expect(await processorCost(long, 100)).toBeLessThan(100)
  })
})
