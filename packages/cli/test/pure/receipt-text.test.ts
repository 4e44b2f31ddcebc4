import fc from 'fast-check'
import type { Receipt, StepReceipt } from '@ledgerman/contract'
import { formatReceipt } from '../../src/output/receipt-text.js'
import { formatValue } from '../../src/output/table.js'

const step = (no: number, parts: Partial<StepReceipt> = {}): StepReceipt => ({
  no,
  kind: 'change',
  mapping: 'programme',
  as: null,
  skipped: false,
  statement: 'update programme set title = $1',
  binds: [{ position: 1, name: 'title', type: 'text', value: 'x' }],
  expected: 'any',
  matched: 1,
  changed: 1,
  durationMs: null,
  rows: [],
  ...parts,
})

const receipt = (steps: StepReceipt[], parts: Partial<Receipt> = {}): Receipt => ({
  id: '01a2198f-c529-7360-91dc-9c226448e643',
  target: 'observatory',
  mode: 'commit',
  outcome: 'committed',
  transaction: null,
  revision: null,
  actor: 'ada',
  note: null,
  startedAt: '2026-02-03T21:00:00Z',
  durationMs: 3,
  attempts: 1,
  isolation: 'read committed',
  replayed: false,
  steps,
  rehearsal: null,
  entry: null,
  reversible: 'yes',
  ...parts,
})

const plain = (of: Receipt, full = false) =>
  formatReceipt(of, { statement: undefined, full, width: 160 }).replace(/\u001b\[\d+m/g, '')

describe('a receipt', () => {
  it.each<[unknown, string]>([
    ['["2026-02-01 00:00:00+00","2026-02-02 00:00:00+00")', '["2026-02-01 00:00:00+00","2026-02-02 00:00:00+00")'],
    ['say "hi" \\n', 'say "hi" \\n'],
    ['say\nhi', '"say\\nhi"'],
    ['"hi"', '"\\"hi\\""'],
    ['["a"]', '"[\\"a\\"]"'],
    [['a'], '["a"]'],
    ['null', '"null"'],
    [null, 'null'],
    ['x ', '"x "'],
    ['', '""'],
  ])('shows %j as %s: no two values look alike', (value, shown) => {
    expect(formatValue(value).replace(/\u001b\[\d+m/g, '')).toBe(shown)
  })

  it('says nothing of more rows where it was refused', () => {
    expect(plain(receipt([step(1), step(2)], { outcome: 'refused' }))).not.toMatch(/more row/)
  })

  it('shows each value before and after, whatever the values are', () => {
    const value = fc.oneof(
      fc.string({ minLength: 1, maxLength: 12 }).filter((text) => !/\s/.test(text)),
      fc.integer(),
      fc.constant(null),
      fc.boolean(),
    )
    fc.assert(
      fc.property(
        fc.dictionary(fc.constantFrom('title', 'priority', 'hoursLeft'), fc.tuple(value, value), { minKeys: 1 }),
        (sides) => {
          const side = (at: 0 | 1) => Object.fromEntries(Object.entries(sides).map(([name, both]) => [name, both[at]]))
          const text = plain(receipt([step(1, { rows: [{ key: { code: 'P-1' }, before: side(0), after: side(1) }] })]))
          expect(text).toContain('P-1')
          for (const [name, [before, after]] of Object.entries(sides)) {
            const line = text.split('\n').find((each) => each.trim().startsWith(`${name} `))
            expect(line).toContain('→')
            for (const each of [before, after])
              if (typeof each === 'number' || typeof each === 'boolean') expect(line).toContain(String(each))
          }
        },
      ),
    )
  })

  it('of many steps shows the first, says how many more there are, and all where all are asked for', () => {
    fc.assert(
      fc.property(fc.integer({ min: 2, max: 120 }), (count) => {
        const many = receipt(
          Array.from({ length: count }, (_, at) => step(at + 1)),
          { reverses: Array.from({ length: count }, (_, at) => `entry-${at}`) },
        )
        const lines = (full: boolean) =>
          plain(many, full)
            .split('\n')
            .filter((line) => /^\d+ +change programme/.test(line)).length
        expect(lines(true)).toBe(count)
        expect(lines(false)).toBe(Math.min(count, 25))
        const more = count - 25
        const rest = more === 1 ? 'and 1 more step;' : `and ${more} more steps;`
        expect(plain(many).includes('more step')).toBe(more > 0)
        if (more > 0) expect(plain(many)).toContain(rest)
        expect(plain(many)).toMatch(new RegExp(`^committed: reversal of ${count} entries `))
      }),
      { numRuns: 30 },
    )
  })

  it('says what it could not show, what was rounded, and that a step was skipped', () => {
    const text = plain(
      receipt([step(1, { rows: [] }), step(2, { skipped: true, matched: null, changed: null })], {
        notShown: ['Not put back: programme: what the trigger note_it may have written elsewhere.'],
        rounded: [{ step: 1, property: 'hoursLeft', to: 'numeric(6,2)' }],
      }),
    )
    expect(text).toMatch(/^Not put back: programme: what the trigger note_it may have written elsewhere\./m)
    expect(text).toMatch(/rounded: hoursLeft of step 1, to what numeric\(6,2\) keeps/)
    expect(text).toMatch(/^2 +change programme +skipped/m)
  })

  it('shows each bind beside its place, or its number where all places look alike', () => {
    const bind = (position: number, name: string) => ({ position, name, type: 'text', value: 'x' })
    const placesOf = (statement: string, ...binds: ReturnType<typeof bind>[]) =>
      formatReceipt(receipt([step(1, { statement, binds })]), { statement: 'whole', full: false, width: 160 })
        .replace(/\u001b\[\d+m/g, '')
        .split('\n')
        .flatMap((line) => /^ +(\S+) .* x +text$/.exec(line)?.[1] ?? [])
    expect(placesOf('set a = $1::text where b <> $2::text[]', bind(1, 'text'), bind(2, ':t'))).toEqual(['$1', '$2'])
    expect(placesOf('set a = ?::text where b <> ?::text[]', bind(1, 'text'), bind(2, ':t'))).toEqual(['1', '2'])
    expect(placesOf('set a = :a::text where b = :a_2', bind(1, 'a'), bind(2, 'a_2'))).toEqual([':a', ':a_2'])
    expect(placesOf('set a = @a where b = %(b)s', bind(1, 'a'), bind(2, 'b'))).toEqual(['@a', '%(b)s'])
  })
})
