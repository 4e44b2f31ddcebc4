import { guardPrefix } from '../mapping/guard-value.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import { guardValueSql } from '../statement/guard-sql.js'
import { keptSql } from '../statement/book-sql.js'
import { extraNames } from '../statement/found-sql.js'
import { isUnique } from '../statement/key-sql.js'
import { outputSql } from '../statement/keyed-statement.js'
import { SlotList, toStatement, type Slot } from '../statement/statement.js'
import { functionNames } from './names.js'
import { called, inComment, inTemplate, memberName, memberOf, quoted } from './text.js'
import { formsMember } from './text-forms.js'
import { isNullable, orNull, plainReadSql, readerOf, typeOf, writerOf } from './value-code.js'

/** What a statement does with its record. */
type Kind = 'add' | 'change' | 'remove'

/** Stands for what is only known when a statement is sent. */
export const HOLE = '\u0001'

/** What the functions of a mapping's file share: its types, how values are read and written, transactions, rules. */
export class MappingCode {
  readonly writable: Property[]
  readonly addable: Property[]
  protected readonly fn
  protected readonly letter: string

  constructor(
    readonly mapping: Mapping,
    readonly type: string,
    readonly isBooked: boolean,
  ) {
    this.writable = mapping.properties.filter(({ lockedBecause }) => lockedBecause === null)
    this.addable = mapping.properties.filter(({ lockedForAddBecause }) => lockedForAddBecause === null)
    this.fn = functionNames(type)
    this.letter = guardPrefix(mapping)
  }

  header(): string {
    const { mapping } = this
    return `// Written by Ledgerman from the mapping ${mapping.name}, revision ${mapping.revision}, of ${inComment(mapping.table.path)}. Written again, it is
// the same: change the mapping, not this file.
import * as s from './support.js'
${this.isBooked ? "import * as b from './book.js'\n" : ''}`
  }

  /**
   * Where the guard's text stands in a row that begins with the record; a version does among its values. `column` is what a select list needs
   * beside them.
   */
  protected get guard(): { place: number; column: string } {
    const { properties, guard } = this.mapping
    if (guard.by === 'version') return { place: properties.indexOf(guard.property), column: '' }
    return { place: properties.length, column: `, ${guardValueSql(guard, 't')}` }
  }

  types(): string {
    const { mapping, type, writable, addable } = this
    const members = mapping.properties.map((property) => {
      const type = property.jsonType ?? typeOf(property.column.type)
      const value = isNullable(property) ? orNull(type) : type
      return `  ${property.lockedBecause === null ? '' : 'readonly '}${memberName(property.name)}: ${value}\n`
    })
    const needed = addable.filter(
      (property) =>
        !isNullable(property) &&
        property.column.default === null &&
        property.column.identity === null &&
        !property.column.generated,
    )
    const optional = addable.filter((property) => !needed.includes(property))
    return `/** A record of ${inComment(mapping.table.path)}. Exact values (numbers with a point, moments) are strings. */
export interface ${type} {
${members.join('')}}

/** What can be changed of it. */
export type ${type}Changes = Partial<Pick<${type}, ${unionOf(writable)}>>

/** What can be given to a new one; what is left out gets its column's default. */
export type ${type}Values = Pick<${type}, ${unionOf(needed)}> & Partial<Pick<${type}, ${unionOf(optional)}>>
${
  mapping.key.length > 0
    ? `
/** What one is found by. */
export type ${type}Key = Pick<${type}, ${unionOf(mapping.key)}>
`
    : ''
}`
  }

  /** The properties in order, with how each is read; and those that are written, with how. */
  columns(): string {
    const { mapping, type } = this
    const readers = mapping.properties.map(
      ({ name, column }) => `  ${memberName(name)}: ${supported(readerOf(column.type))},\n`,
    )
    const read = mapping.properties.map(
      ({ name }, at) =>
        `    ${memberName(name)}: s.read(${memberOf('READ', name)}, row[${at === 0 ? 'at' : `at + ${at}`}]),\n`,
    )
    const writers = mapping.properties.map(
      ({ name, column }) => `  ${memberName(name)}: ${supported(writerOf(column.type))},\n`,
    )
    const forms = formsMember(mapping.properties.map(({ column }) => column.type))
    const limits = forms === '' ? 's.LIMITS' : `{ ...s.LIMITS${forms} }`
    return `const LIMITS: s.Limits = ${limits}

const READ = {
${readers.join('')}} satisfies Record<keyof ${type}, s.Read>

const WRITE = {
${writers.join('')}} satisfies Record<keyof ${type}, s.Write>

/** The record that a row holds, from its place on. */
function recordOf(row: s.Row, at = 0): ${type} {
  return {
${read.join('')}  }
}

/** The record that a row begins with, and its guard. */
function loadedFrom(row: s.Row): s.Loaded<${type}> {
  return { record: recordOf(row), guard: s.toGuard(row[${this.guard.place}], ${quoted(this.letter)}) }
}
`
  }

  protected rules(): string {
    const { rules } = this.mapping
    if (rules.length === 0) return ''
    return `
/** What has to be true of every record that is written, and what is said where it is not. */
const RULES: readonly (readonly [that: string, otherwise: string])[] = [
${rules.map(({ that, otherwise }) => `  [${quoted(that)}, ${quoted(otherwise)}],\n`).join('')}]

/** @throws RuleBroken */
function assertRules(broken: string | null | undefined): void {
  if (broken === null || broken === undefined) return
  const [that, otherwise] = RULES[Number(broken) - 1] ?? ['', '']
  throw new s.RuleBroken(otherwise, that)
}
`
  }

  protected assertRule(broken: string): string {
    return this.mapping.rules.length === 0 ? '' : `assertRules(${broken})`
  }

  /**
   * The part of a function that runs its statement in a transaction. Booked, the statement writes its entry itself, and a refusal is kept
   * behind the roll-back.
   *
   * @param statement the code of what the book keeps of it
   * @param text the code of its text; booked, of the text that books
   * @param work what is made of `rows`: it has `result` in the end
   */
  protected transaction(kind: Kind, statement: string, text: string, work: string): string {
    // Nothing was loaded of a record that is added.
    const orHidden = (does: string) => (kind === 'add' ? does : this.orHidden(does))
    if (!this.isBooked) return `  return ${called(orHidden(`() => ${this.#oneStatement(text, 'values', work)}`))}`
    const does = `async () => {
    await b.introduce(db, [entry.statement])
    return ${this.#oneStatement(text, '[...values, ...b.entryValues(entry)]', work).replace(/\n(?=.)/g, '\n  ')}
  }`
    return `  const entry = ${this.entry(kind, statement)}
  return b.keepingRefusals(db, entry, ${orHidden(does)})`
  }

  /** A function without parameters, as code: where row security may let a record be read and not be written, it says so. */
  protected orHidden(does: string): string {
    const { name, table } = this.mapping
    return table.rowSecurity ? `() => s.orHidden(${quoted(name)}, () => ${this.fn.load}(db, key), ${does})` : does
  }

  /** What the book is told of a statement, as code. One of a change has under `touched` the properties whose images it keeps. */
  protected entry(kind: Kind, statement: string): string {
    const { key } = this.mapping
    const isAdd = kind === 'add'
    const given = key.map(({ name }) => {
      const value = isAdd ? `${memberOf('given', name)} ?? null` : memberOf('key', name)
      return `s.writeValue(${memberOf('WRITE', name)}, ${value}, ${quoted(name)})`
    })
    const isGenerated = isAdd && key.some(({ lockedForAddBecause }) => lockedForAddBecause !== null)
    return `{ statement: ${statement}, values, key: [${isGenerated ? '' : given.join(', ')}], keySql: KEY_SQL, isSensitive: ${this.#isSensitive}, isDigested: ${this.#isDigested(kind)} }`
  }

  get #isSensitive(): boolean {
    return this.mapping.properties.some(({ sensitive }) => sensitive)
  }

  /** Whether the statement makes digests, as code: only then it takes the keys that they are made with. */
  #isDigested(kind: Kind): string {
    return this.choosesDigests && kind === 'change'
      ? 'touched.some((name) => SENSITIVE.includes(name))'
      : String(this.#isSensitive)
  }

  /** Whether it depends on what a change sets: a digest of the key is always made. */
  protected get choosesDigests(): boolean {
    return this.#isSensitive && this.writable.length > 0 && !this.mapping.key.some(({ sensitive }) => sensitive)
  }

  #oneStatement(text: string, values: string, work: string): string {
    const rows = this.refusesByItself
      ? `s.inOneStatement(db, LIMITS, ${text}, () => ${values}, (rows) => {`
      : `s.inTransaction(db, LIMITS, async (client) => {
    const rows = await s.ask(client, ${text}, ${values})`
    return `${rows}
    ${work}
    return result
  })`
  }

  /**
   * Whether a statement that writes one record leaves nothing behind where it is refused, so that there is nothing to roll back: no rule is judged by
   * what was written, no second row can be, and no trigger has written elsewhere.
   */
  protected get refusesByItself(): boolean {
    const { rules, table, key } = this.mapping
    const isOwn =
      (table.kind === 'table' || table.kind === 'partitioned table') && !table.hasChildren && !table.hasRules
    const isOne = key.length === 0 || isUnique(this.mapping, key)
    return isOwn && isOne && rules.length === 0 && !table.sideWriters.some(({ by }) => by === 'trigger')
  }

  /**
   * The code of the part of a statement that writes its entry, behind `at` values of the statement's own.
   *
   * @param rows the aliases of the record as it was and as it is; null where there is none
   */
  protected entryPart(
    at: string,
    {
      before,
      after,
      touched,
      from,
      where,
      isAlwaysWritten = false,
    }: {
      before: string | null
      after: string | null
      touched: string
      from: string
      where: string
      isAlwaysWritten?: boolean
    },
  ): string {
    const { mapping } = this
    const { written } = extraNames(mapping)
    const pads = this.#isSensitive ? `, \`$\${${at} + 6}\`` : ''
    const image = (alias: string | null) => (alias === null ? 'null' : `imageOf(${touched}, ${quoted(alias)}${pads})`)
    const key = mapping.key.map(({ name }) => quoted(name)).join(', ')
    return `b.entryPart(${at}, {
    key: ${mapping.key.length === 0 ? 'null' : `imageOf([${key}], ${quoted(before ?? after ?? '')}${pads})`},
    before: ${image(before)},
    after: ${image(after)},
    written: ${isAlwaysWritten ? 'null' : quoted(`done.${written}`)},
    from: ${quoted(from)},
    where: \`${inTemplate(where)}\`,
  })`
  }

  /** What the book is told of fixed slots. */
  protected slotCode(slots: readonly Slot[]): string {
    return slots
      .map(({ name, type, sensitive }) => `{ name: ${quoted(name)}, type: ${quoted(type)}, sensitive: ${sensitive} }`)
      .join(', ')
  }

  /** What entries say of every statement of the mapping. */
  booked(): string {
    const { mapping, type, isBooked } = this
    if (!isBooked) return ''
    const columns = (list: readonly Property[]) => list.map(({ column }) => quoted(column.name)).join(', ')
    const members = (write: (property: Property) => string) =>
      mapping.properties.map((property) => `  ${memberName(property.name)}: ${write(property)},\n`).join('')
    const isSensitive = this.#isSensitive
    const secrets = mapping.properties.filter(({ sensitive }) => sensitive).map(({ name }) => quoted(name))
    const casts = mapping.key.map(({ column }, at) => `(($1::text[])[${at + 1}])::${column.type.comparable}::text`)
    return `/** The key as PostgreSQL writes it. */
const KEY_SQL = ${mapping.key.length === 0 ? "'null::text[]'" : quoted(`array[${casts.join(', ')}]`)}

const BOOKED = {
${members(({ name, column, sensitive }) => `{ name: ${quoted(name)}, type: ${quoted(column.type.sql)}, sensitive: ${sensitive} }`)}}

const COLUMNS = {
${members(({ column }) => quoted(column.name))}}

${this.choosesDigests ? `/** What the book keeps digests of. */\nconst SENSITIVE: readonly (keyof ${type})[] = [${secrets.join(', ')}]\n\n` : ''}/** Every value as the book keeps it, of the row under an alias${isSensitive ? ': sensitive ones as a digest, with the padded keys that stand under `pads`' : ''}. */
const KEPT: Readonly<Record<keyof ${type}, (row: string${isSensitive ? ', pads: string' : ''}) => string>> = {
${members((property) => `(row${property.sensitive ? ', pads' : ''}) => \`${keptCode(property)}\``)}}

function imageOf(touched: readonly (keyof ${type})[], row: string${isSensitive ? ', pads: string' : ''}): string {
  return \`array[\${touched.map((name) => KEPT[name](row${isSensitive ? ', pads' : ''})).join(', ')}]\`
}

function booked(
  kind: string,
  text: string,
  binds: b.BookedStatement['binds'],
  touched: readonly (keyof ${type})[],
): b.BookedStatement {
  return {
    kind,
    mapping: ${quoted(mapping.name)},
    revision: ${mapping.revision},
    relation: ${quoted(mapping.table.path)},
    keyColumns: [${columns(mapping.key)}],
    touched: touched.map((name) => COLUMNS[name]),
    text,
    binds,${this.#movesKey}
  }
}
`
  }

  /** What finds the record is bound too: more parts of the key than that are set. */
  get #movesKey(): string {
    const { key } = this.mapping
    if (key.every(({ lockedBecause }) => lockedBecause !== null)) return ''
    const names = key.map(({ name }) => quoted(name)).join(', ')
    return `\n    movesKey: kind === 'change' && binds.filter(({ name }) => [${names}].includes(name)).length > ${key.length},`
  }

  /** The names of all properties, as code. */
  protected get all(): string {
    return `[${this.mapping.properties.map(({ name }) => quoted(name)).join(', ')}]`
  }

  protected selectList(): { list: string; isPlain: boolean } {
    const { properties, guard } = this.mapping
    const plain = properties.map(({ column }) => plainReadSql(`t.${column.sql}`, column.type))
    // A digest over the row's text depends on the settings as well.
    const isPlain = guard.by !== 'values' && plain.every((each) => each !== undefined)
    return { list: isPlain ? plain.join(', ') : outputSql('t', properties), isPlain }
  }

  /** What is thrown where another number of rows than one was found by the key in `key`, as code. */
  protected notOne(key: string): string {
    const shown = this.mapping.key.filter(({ sensitive }) => !sensitive)
    const members = shown.map(({ name }) => `${memberName(name)}: ${memberOf(key, name)}`).join(', ')
    return `if (rows.length !== 1) throw s.notOne(${quoted(this.mapping.name)}, rows.length, { ${members} })`
  }

  /** The expressions that fill slots, in order: of the key in `key`, of the guard in `loaded`. */
  protected binds(slots: readonly Slot[], key: string): string {
    return slots
      .map(({ source, type }) => {
        switch (source.from) {
          case 'key': {
            const access = memberOf(key, source.property)
            return `s.writeKey(${memberOf('WRITE', source.property)}, ${access}, ${quoted(source.property)})`
          }
          case 'guard':
            return `s.${type.endsWith('[]') ? 'guardArray' : 'guardText'}(loaded.guard, ${quoted(this.letter)})`
          case 'literal':
            return source.text === null ? 'null' : quoted(source.text)
          default:
            throw new TypeError(`a statement of a record has no ${source.from}`)
        }
      })
      .join(', ')
  }
}

export function unionOf(properties: readonly Property[]): string {
  return properties.map(({ name }) => quoted(name)).join(' | ') || 'never'
}

/** Types without an equality of their own. */
export function isComparable(name: string, kind: string): boolean {
  return kind !== 'json' && !['xml', 'point', 'polygon', 'box', 'line', 'path', 'circle', 'lseg'].includes(name)
}

/** Without the marks that tell which place of an expression it came from. */
export function unmarked(sql: string): string {
  return toStatement(sql, new SlotList()).text
}

export function withHole(sql: string, expression: string): string {
  return inTemplate(sql).replaceAll(HOLE, expression)
}

/** Names of the support, as a file has them. */
export function supported(expression: string): string {
  return expression.replace(/\b(read|write)(?=[A-Z])/g, 's.$1')
}

/** The SQL of a value as the book keeps it, of the row under `row`, in a template. */
function keptCode(property: Property): string {
  const pads = new (class extends SlotList {
    override add(): string {
      return PADS
    }
  })()
  return withHole(keptSql(property, HOLE, pads), '${row}').replaceAll(PADS, '${pads}')
}

const PADS = '\u0002'
