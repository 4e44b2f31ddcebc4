import fc from 'fast-check'
import {
  checkInput,
  describeIssues,
  durationMs,
  fromRecordAddress,
  sayIssue,
  stepInput,
  suggestName,
  toRecordAddress,
  transactionDefinition,
} from '@ledgerman/contract'

const transaction = (difference: object) => ({
  transaction: 'move-hours',
  params: { from: { type: 'text' } },
  steps: [{ require: ':from is not null' }],
  ...difference,
})
const findings = (input: unknown): string[] => {
  const read = checkInput(transactionDefinition, input)
  return read.success ? [] : describeIssues(read.error, input).map(sayIssue)
}

describe('a transaction definition', () => {
  it.each<[object, RegExp]>([
    [{ transaction: '1st' }, /^transaction: expected a letter or underscore.*, got "1st"$/],
    [{ transaction: undefined }, /^transaction: expected a string, got nothing$/],
    [{ steps: [] }, /^steps: expected at least 1, got \[\]$/],
    [
      { steps: [{ load: 'a', chnge: 'b' }] },
      /^steps\.1: unknown member chnge \(known: load, when, key, .*, lock, order, limit\)$/,
    ],
    [{ steps: [{}] }, /^steps\.1: expected a step with one of load, change.*, got none of them$/],
    [{ steps: [{ update: 'a', key: {} }] }, /got update, key; update is written change$/],
    [{ steps: [{ laod: 'a' }] }, /got laod; laod is written load$/],
    [
      { steps: [{ load: 'a', change: 'b' }] },
      /expected a step of one kind, got load and change: write a step for each$/,
    ],
    [
      { steps: [{ load: 'a', expect: '5..2' }] },
      /^steps\.1\.expect: expected a range whose first number is not the larger/,
    ],
    [{ steps: [{ load: 'a', expect: 'two' }] }, /^steps\.1\.expect: .*range such as 2\.\.40/],
    [{ steps: [{ load: 'a', expect: -1 }] }, /^steps\.1\.expect: /],
    [{ steps: [{ load: 'a', lock: 'write' }] }, /^steps\.1\.lock: expected one of none, share, change, got "write"$/],
    [{ steps: [{ change: 'a', compute: { 'least(a': null } }] }, /"least\(a" is no name\. In YAML .* needs quotes/],
    [{ steps: [{ sql: '' }] }, /^steps\.1\.sql: /],
    [{ params: { from: { tipe: 'text' } } }, /^params\.from/],
    [{ lockWait: 'soon' }, /^lockWait: /],
    [{ timeLimit: -5 }, /^timeLimit: /],
    [{ retry: 1.5 }, /^retry: /],
    [{ retry: -1 }, /^retry: expected 0 or more, got -1$/],
    [{ isolation: 'dirty' }, /^isolation: expected one of .*, serializable, got "dirty"$/],
    [{ surprise: 1, another: 2 }, /^unknown members surprise, another \(known: transaction, .*steps.*\)$/],
    [{ steps: [{ load: 'a', wher: 'true' }] }, /^steps\.1: unknown member wher \(did you mean where\?\)$/],
  ])('is told what is wrong with %j', (difference, words) => {
    expect(findings(transaction(difference)).join('\n')).toMatch(words)
  })

  it.each<object>([
    { load: 'programme', where: 'true', expect: '2..', lock: 'share', as: 'all', when: '1 = 1' },
    { change: 'programme', key: { id: 7, code: ":code || 'x'" }, values: { tags: [] }, guard: 'any', loaded: {} },
    { change: 'programme', where: 'true', everyRow: true, expect: 0, compute: { priority: 1 } },
    { replace: 'programme', key: { id: 1 }, values: {} },
    { add: 'programme', values: { a: null }, onExisting: 'keep', as: 'it' },
    { remove: 'programme', where: 'true', expect: '..40' },
    { require: 'true', otherwise: 'No.' },
    { sql: 'select 1', changes: false, expect: 'any' },
  ])('takes the step %j', (step) => {
    expect(stepInput.safeParse(step)).toMatchObject({ success: true })
  })

  it('reads times in milliseconds', () => {
    expect(['250ms', '2s', '1m', '1.5s', 40, 0].map((time) => durationMs(time))).toEqual([
      250, 2_000, 60_000, 1_500, 40, 0,
    ])
  })
})

describe('names', () => {
  it('suggest the nearest one, or list what is known', () => {
    expect(suggestName('hoursLft', ['hoursLeft', 'hoursGranted'])).toBe('Did you mean hoursLeft?')
    expect(suggestName('zzz', ['a', 'b'])).toBe('Valid names: a, b.')
    expect(suggestName('zzz', [])).toBe('There are none.')
  })
})

describe('a record’s address', () => {
  it('gives back any key, whatever is in it', () => {
    fc.assert(
      fc.property(fc.array(fc.string({ unit: 'grapheme' }), { minLength: 1, maxLength: 4 }), (key) => {
        const address = toRecordAddress(key)
        expect(address).toMatch(/^[\w.!~*()%,-]*$/)
        expect(fromRecordAddress(address)).toEqual(key)
      }),
    )
    expect(() => fromRecordAddress('%zz')).toThrow(/not valid percent-encoding/)
  })
})
