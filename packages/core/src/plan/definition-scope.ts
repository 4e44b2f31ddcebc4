import { plainType, type ValueType } from '../values/value-type.js'
import { findNearestName, isProblem, suggestName, type TransactionDefinition } from '@ledgerman/contract'
import { parametersOf, type Expression } from '../values/expression/expression.js'
import { parseExpression } from '../values/expression/parse.js'
import type { Links } from '../mapping/links.js'
import type { Mapping, Property } from '../mapping/mapping.js'
import type { DefinitionFinding } from '../mapping/resolve-mapping.js'
import { Astray } from '../statement/joins.js'
import { valueSql, type NamedExpression, type Surroundings } from '../statement/record-scope.js'
import { SlotList, toStatement } from '../statement/statement.js'
import type { ColumnType } from '../values/column-type.js'
import { comparedSql } from '../values/sql-form.js'
import type { Judgement, Param, PlannedStep, Words } from './plan.js'
import { resolveParams, typeOfParam } from './resolve-params.js'
import { parseWords } from './words.js'

/** What a definition's names stand for, asked of the target beforehand. */
export interface Surrounded {
  mappings: ReadonlyMap<string, Mapping>
  /** What is told of mappings that are not there, by the name that was given: with the nearest one there is. */
  missing: ReadonlyMap<string, string>
  links: Links
  /** The types that parameters are of, by the name they have in the definition. */
  types: ReadonlyMap<string, ColumnType>
}

/** A name that an earlier step gave to what it loaded or did. */
export interface Loaded {
  /** Null where what it stands for has no properties. */
  mapping: Mapping | null
  /** Whether it is one record, whose properties can be named. */
  isOne: boolean
  /** Whether its step could not be resolved, and has been told of: what cannot be known for that is not told as well. */
  isAmiss: boolean
  kind: PlannedStep['kind']
}

/** An expression that names what cannot be known, since the step that gave the name is told of already. */
class Untold extends Error {
  override readonly name = 'Untold'
}

/** What the steps of a definition may name, as far as it has been read, and everything that was found wrong with it. */
export class DefinitionScope {
  readonly mappings: ReadonlyMap<string, Mapping>
  readonly #missing: ReadonlyMap<string, string>
  readonly links: Links
  readonly findings: DefinitionFinding[] = []
  /** Parameters that something used. */
  readonly used = new Set<string>()
  readonly loaded = new Map<string, Loaded>()
  readonly params: ReadonlyMap<string, Param>
  readonly #parameters: ReadonlyMap<string, ValueType | undefined>

  constructor(definition: Pick<TransactionDefinition, 'params'>, surrounded: Surrounded) {
    this.mappings = surrounded.mappings
    this.#missing = surrounded.missing
    this.links = surrounded.links
    this.params = resolveParams(definition, surrounded.types, this.findings)
    this.#parameters = new Map(
      [...this.params].map(([param, { type }]) => [param, type === null ? undefined : typeOfParam(type)]),
    )
  }

  /** Reads an expression; what is wrong with it is found and told with its place. */
  read(label: string, source: string): NamedExpression | undefined {
    return this.attempt(label, () => {
      const expression: Expression = parseExpression(source)
      for (const parameter of parametersOf(expression)) this.used.add(parameter)
      return { label, source, expression }
    })
  }

  /** What an expression may name beside a record's own properties, for the slots of one statement. */
  readonly surroundings = (slots: SlotList): Surroundings & { used: Set<string> } => {
    const names = new Map(this.loaded)
    return {
      used: this.used,
      parameters: this.#parameters,
      loadedNames: [...names.keys()],
      loaded(path) {
        const [name = '', property = '', ...more] = path
        const record = names.get(name)
        if (!record) return undefined
        if (record.isAmiss && (record.mapping === null || !record.isOne)) throw new Untold()
        if (record.mapping === null || !record.isOne)
          throw new Astray(
            `${name} does not stand for one record; matched(${name}) and changed(${name}) give its counts`,
          )
        const found = more.length === 0 ? record.mapping.byName.get(property) : undefined
        if (!found)
          throw new Astray(
            `${path.slice(1).join('.') || 'that'} is not a property of ${record.mapping.name}. ${suggestName(property, record.mapping.byName.keys())}`,
          )
        const { type } = found.column
        const placeholder = slots.add({
          name: path.join('.'),
          type: type.comparable,
          sensitive: found.sensitive,
          source: { from: 'loaded', name, property },
        })
        return { sql: comparedSql(placeholder, type), type, sensitive: found.sensitive }
      },
      outcome({ of, name }) {
        if (!names.has(name)) throw new Astray(`${name} is no earlier step. ${suggestName(name, names.keys())}`)
        return `${slots.add({ name: `${of}(${name})`, type: 'bigint', sensitive: false, source: { from: 'outcome', of, name } })}::bigint`
      },
    }
  }

  /** A question on its own, asked of no record. */
  judgement(where: string, source: string): Judgement | undefined {
    const named = this.read(where, source)
    if (!named) return undefined
    const slots = new SlotList()
    const sql = valueSql(named, null, slots, this.surroundings(slots), plainType('boolean'))
    return { source, expression: named, statement: toStatement(`select coalesce(${sql}, false)`, slots) }
  }

  /** Words, with places for values where they are a template. */
  words(where: string, source: string, isTemplate: boolean): Words {
    if (!isTemplate) return { source, parts: [source] }
    const parsed = parseWords(source)
    for (const part of parsed.parts) {
      if (typeof part === 'string') continue
      if ('parameter' in part) {
        this.used.add(part.parameter)
        if (!this.params.has(part.parameter))
          this.findings.push({
            where,
            message: `{:${part.parameter}} is not a parameter. ${suggestName(part.parameter, this.params.keys())}`,
          })
      } else if (!this.#mayHave(part.loaded, part.property))
        this.findings.push({
          where,
          message: `{${part.loaded}.${part.property}} is not a property of an earlier step's record`,
        })
    }
    return parsed
  }

  #mayHave(name: string, property: string): boolean {
    const record = this.loaded.get(name)
    return (
      record !== undefined && ((record.isAmiss && !record.mapping) || (record.mapping?.byName.has(property) ?? false))
    )
  }

  mappingOf(mappingName: string, where: string): Mapping | undefined {
    const mapping = this.mappings.get(mappingName)
    if (mapping) return mapping
    const records = [...this.loaded].filter(([, { isOne }]) => isOne).map(([each]) => each)
    const isRecord = findNearestName(mappingName, records) !== undefined
    const missing = isRecord ? undefined : this.#missing.get(mappingName)
    this.findings.push({
      where,
      message:
        missing ??
        `there is no mapping ${mappingName}. ${suggestName(mappingName, [...this.mappings.keys(), ...records])}`,
    })
    return undefined
  }

  propertyOf(mapping: Mapping, property: string, where: string): Property | undefined {
    const found = mapping.byName.get(property)
    if (!found)
      this.findings.push({
        where,
        message: `${property} is not a property of ${mapping.name}. ${suggestName(property, mapping.byName.keys())}`,
      })
    return found
  }

  /** What work gives; undefined, and a finding, where an expression is not valid. */
  attempt<T>(where: string, work: () => T): T | undefined {
    try {
      return work()
    } catch (error) {
      if (error instanceof Untold) return undefined
      if (!isProblem(error, 'expression-invalid')) throw error
      const place = String(error.facts['where'])
      this.findings.push({ where: place === 'expression' ? where : place, message: error.detail })
      return undefined
    }
  }
}
