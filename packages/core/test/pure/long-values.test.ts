import { describe, expect, it } from '@jest/globals'
import { parseTablePath, RawJson, type Json } from '@ledgerman/contract'
import { withoutValues } from '../../src/sessions/database-words.js'
import { castOfSent } from '../../src/values/cast-text.js'
import { VALUE_KINDS, type ColumnType } from '../../src/values/column-type.js'
import { codecOf } from '../../src/values/scalar-codecs.js'
import { ValueError } from '../../src/values/value-error.js'

const LENGTH = 300_000
const long = (text: string) => text.repeat(Math.ceil(LENGTH / text.length))

/** Texts that begin as a value of some kind does, and only show at their end that they are none. */
const TEXTS = [
  `${long('1')}x`,
  `1.1${long('0')}1`,
  `21:30:00.1${long('0')}1`,
  `PT1.${long('0')}1S`,
  `P${long('1D')}x`,
  `P${long('-1.')}`,
  `${long(' ')}x`,
  `a${long(' ')}b`,
  `2026-03-01 ${long(':')}`,
  `{"ledgerman:json"${long(' ')}x`,
  `\\x${long('0')}g`,
  long('-'),
  long('e'),
]

const NUMBERS = [`1${long('0')}`, `0.${long('0')}1`, `1.1${long('0')}1`, `1e${long('9')}`].map(
  (text) => new RawJson(text),
)

const type = (kind: (typeof VALUE_KINDS)[number]): ColumnType => ({
  sql: kind,
  comparable: kind,
  operators: 'pg_catalog',
  name: kind,
  kind,
  domain: null,
  domainNotNull: false,
  domains: [],
  length: null,
  precision: null,
  fractionDigits: 3,
  intervalFields: kind === 'interval' ? 'day to minute' : null,
  labels: null,
  element: null,
})

describe('a value of hundreds of thousands of characters', () => {
  it.each(VALUE_KINDS.filter((kind) => kind !== 'array'))('is read or refused at once where %s stands', (kind) => {
    for (const value of [...TEXTS, ...NUMBERS]) {
      try {
        expect(typeof codecOf(kind).toText(value as Json, type(kind))).toBe('string')
      } catch (error) {
        expect(error).toBeInstanceOf(ValueError)
      }
    }
  })

  it('is told without its blanks, and left out of a message, at once', () => {
    const inside = `a${long(' ')}b`
    expect(castOfSent(`${inside}  `, { ...type('text'), name: 'bpchar' })).toBe(inside)
    for (const part of ['‹', '「', '=(', ':', "'", '"'])
      expect(withoutValues(`no: ${long(part)} "`).length).toBeLessThan(2 * LENGTH)
    expect(() => parseTablePath(`${long(' ')}"`)).toThrow('does not name a table')
  })
})
