import fc from 'fast-check'
import ts from 'typescript'
import { inComment, inTemplate, memberName, quoted } from '../../src/code/text.js'

// Names, texts and expressions of definitions and of the catalogue stand in written code, which is run: none may be more than a text there.
describe('a text in written code', () => {
  const nasty = fc.oneof(
    fc.string({ unit: 'binary' }),
    fc
      .array(
        fc.constantFrom(
          '*/',
          '/*',
          '//',
          '\n',
          '\r',
          '\u2028',
          '\u2029',
          '`',
          '${',
          '}',
          "'",
          '"',
          '\\',
          'evil()',
          '$',
          ' ',
          '\0',
        ),
      )
      .map((parts) => parts.join('')),
  )
  /** The statements of a program beside those that are expected. */
  const kindsOf = (source: string) =>
    ts.createSourceFile('x.ts', source, ts.ScriptTarget.ES2023, true).statements.map(({ kind }) => ts.SyntaxKind[kind])

  it('stays a text: in a line comment, a block comment, a string, a template, a name', () => {
    fc.assert(
      fc.property(nasty, (text) => {
        expect(kindsOf(`// ${inComment(text)}\nconst a = 1`)).toEqual(['FirstStatement'])
        expect(kindsOf(`/** ${inComment(text)} */\nconst a = 1`)).toEqual(['FirstStatement'])
        expect(Function(`return ${quoted(text)}`)()).toBe(text)
        expect(Function(`return \`${inTemplate(text)}\``)()).toBe(text)
        expect(Object.keys(Function(`return { ${memberName(text)}: 1 }`)() as object)).toEqual(
          text === '__proto__' ? [] : [text],
        )
      }),
      { numRuns: 1000 },
    )
  })
})
