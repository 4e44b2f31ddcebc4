import { withoutValues } from '../../src/sessions/database-words.js'
import fc from 'fast-check'
import { withoutLiterals } from '../../src/values/expression/without-literals.js'

describe('what PostgreSQL says, without values', () => {
  it.each([
    ['value "4711" is out of range for type smallint', 'value "…" is out of range for type smallint'],
    ['invalid input syntax for type integer: "4711"', 'invalid input syntax for type integer: "…"'],
    ['Wert »4711« ist außerhalb des gültigen Bereichs', 'Wert "…" ist außerhalb des gültigen Bereichs'],
    ['la valeur « 4711 » est hors des limites', 'la valeur "…" est hors des limites'],
    ['Key (code)=(4711) already exists.', 'Key (code)=(…) already exists.'],
    ["the row of contact doesn't fit", "the row of contact doesn't fit"],
  ])('makes of %j %j', (message, shown) => expect(withoutValues(message)).toBe(shown))

  it('never shows a part of a quoted value, whatever marks it holds', () => {
    const value = fc.array(fc.constantFrom('"', "'", '«', '»', ')', ':', ' ', '\n', '4711'), { maxLength: 8 })
    const form = fc.constantFrom(
      'value "%" is out of range',
      'Wert »%« ist zu groß',
      'valeur « % » hors limites',
      "bad '%' here",
    )
    fc.assert(
      fc.property(form, value, (words, parts) =>
        expect(withoutValues(words.replace('%', () => parts.join('')))).not.toContain('4711'),
      ),
    )
  })
})

describe('an expression without its literals', () => {
  it.each([
    ["contactEmail = 'a''b' and pin > 4711.5 ", 'contactEmail = … and pin > … '],
    [' isBlind = true or "true" in (1, -2)', ' isBlind = … or "true" in (…, -…)'],
    ["p1 = :pin1 and note <> ''", 'p1 = :pin1 and note <> …'],
  ])('makes of %j %j', (source, shown) => expect(withoutLiterals(source)).toBe(shown))
})
