import type { PLACEHOLDER_STYLES } from '@ledgerman/contract'
import { restyle, restyleAll } from '@ledgerman/contract'

const bind = (position: number, name: string) => ({ position, name, type: 'text', value: `v${position}` })
const shown = {
  statement: `update a set n = $2, m = '$1 ? %' || "$1?" -- $1\nwhere x ? $1 and y = $2 /* $1 */ and z = $$ $1 $$ and f(a$1) % 2 = 0`,
  binds: [bind(1, 'code'), bind(2, ':hours')],
}
const inStyle = (style: (typeof PLACEHOLDER_STYLES)[number]) => restyle(shown, style)

describe('a statement in another style', () => {
  it('has its values in the order in which their places come, once for each', () => {
    const { statement, binds } = inStyle('question')
    expect(statement).toBe(
      `update a set n = ?, m = '$1 ?? %' || "$1??" -- $1\nwhere x ?? ? and y = ? /* $1 */ and z = $$ $1 $$ and f(a$1) % 2 = 0`,
    )
    expect(binds.map(({ position, value }) => [position, value])).toEqual([
      [1, 'v2'],
      [2, 'v1'],
      [3, 'v2'],
    ])
    expect(inStyle('percent').statement).toContain(`n = %s, m = '$1 ? %%'`)
    expect(inStyle('percent').statement).toContain('f(a$1) %% 2 = 0')
  })

  it('has its values under names where the style has names', () => {
    expect(inStyle('colon').statement).toContain('n = :hours, m =')
    expect(inStyle('percent-named').statement).toContain('x ? %(code)s and y = %(hours)s')
    expect(inStyle('at').statement).toContain('x ? @code and y = @hours')
    expect(inStyle('at').binds.map(({ name }) => name)).toEqual(['code', 'hours'])
    const twins = restyle({ statement: '$1, $2, $3', binds: [bind(1, 'a'), bind(2, ':a'), bind(3, '1 x')] }, 'colon')
    expect(twins.statement).toBe(':a, :a_2, :p1_x')
  })

  it('is changed wherever it stands, and PostgreSQL itself has the first style', () => {
    const receipt = { steps: [{ no: 1, ...shown, rows: [{ statement: 'a value' }] }] }
    expect(restyleAll(receipt, 'dollar')).toBe(receipt)
    expect(restyleAll(receipt, 'at').steps[0]).toMatchObject({
      no: 1,
      binds: [{ name: 'code' }, { name: 'hours' }],
      rows: [{ statement: 'a value' }],
    })
  })
})
