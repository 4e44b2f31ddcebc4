import { LedgermanProblem, printJson, type Json, type RecordValues } from '@ledgerman/contract'
import { plainType } from '../expression/value-type.js'
import { guardBind, guardPrefix } from '../mapping/guard-value.js'
import type { Mapping } from '../mapping/mapping.js'
import {
  isWrite,
  mayWrite,
  shownStatement,
  type Plan,
  type PlannedStep,
  type PlannedWrite,
  type Words,
} from '../plan/plan.js'
import { typeOfParam } from '../plan/resolve-params.js'
import { valueSql } from '../statement/record-scope.js'
import { reversibilityOf } from '../receipt/reversibility.js'
import { SlotList, toStatement, type SlotSource, type Statement } from '../statement/statement.js'
import { judgedHere } from './judged-here.js'
import { unmarked } from './mapping-code.js'
import type { TransactionNames } from './names.js'
import { formsMember } from './text-forms.js'
import { paramMember, paramValue } from './param-code.js'
import { inComment, inTemplate, memberName, quoted } from './text.js'
import { supported } from './mapping-code.js'
import { readerOf } from './value-code.js'

const DEFAULTS = { lockWaitMs: 2_000, timeLimitMs: 10_000 }

/** How many rows a step looks at one by one; the others are counted where they are. */
const ROWS_LOOKED_AT = '1'

/**
 * Writes the file of a transaction: one function with typed parameters, which runs its steps between BEGIN and COMMIT.
 *
 * @throws LedgermanProblem count-required where a step does not say how many rows it is meant to match.
 */
export function emitTransaction(plan: Plan & { name: string }, names: TransactionNames, isBooked: boolean): string {
  return new TransactionCode(plan, names, isBooked).text()
}

class TransactionCode {
  /** Constants ahead of the function: statements, rules. */
  readonly #constants: string[] = []
  readonly #rulesOf = new Map<Mapping, string>()

  constructor(
    readonly plan: Plan & { name: string },
    readonly names: TransactionNames,
    readonly isBooked: boolean,
  ) {}

  text(): string {
    const { plan, names } = this
    const { name, revision, definition, isolation, lockWaitMs, skipLocked, timeLimitMs, retry } = plan
    const params = [...plan.params.values()]
    const steps = plan.steps.map((step) => this.#step(step)).join('\n')
    const rules = this.#paramRules()
    const limits = `{ isolation: ${quoted(isolation)}, lockWaitMs: ${lockWaitMs ?? DEFAULTS.lockWaitMs}, timeLimitMs: ${timeLimitMs ?? DEFAULTS.timeLimitMs}, retries: ${retry}${this.#forms()} }`
    const named = plan.steps.filter(({ as }) => as !== null)
    const writing = plan.steps.filter((step) => isWrite(step) || (step.kind === 'sql' && step.writes))
    const total = (of: string) => writing.map(({ no }) => `step${no}.${of}`).join(' + ') || '0'
    return `// Written by Ledgerman from the transaction ${name}, revision ${revision}, with ${mappingsOf(plan)}. Written again, it is the same: change
// the definition, not this file.
import * as s from './support.js'
${this.isBooked ? "import * as b from './book.js'\n" : ''}
export interface ${names.type}Params {
${params.map(paramMember).join('')}}

/** How many rows the steps that change matched and changed, and those of each step that has a name. */
export interface ${names.type}Result {
  matched: number
  changed: number
  steps: { ${named.map(({ as }) => `${memberName(as ?? '')}: { matched: number; changed: number }`).join('; ')} }
}

const LIMITS: s.Limits = ${limits}${skipLocked ? ' // rows that others hold are left out' : ''}

${this.#constants.join('\n')}
${this.isBooked ? this.#runConstant() : ''}
/**
 * ${inComment(definition.summary ?? `Runs ${name}.`)}
 *
 * @throws DataError: then nothing was changed, but for OutcomeUnknown
 */
export async function ${names.fn}(db: s.Db, params: ${names.type}Params): Promise<${names.type}Result> {
${params.length > 0 ? `  const p = {\n${params.map(paramValue).join('')}  }\n` : '  void params\n'}${this.#begin()}${rules}${steps}
${this.isBooked ? '    await run.book(client)\n' : ''}    return {
      matched: ${total('matched')},
      changed: ${total('changed')},
      steps: { ${named.map(({ as, no }) => `${memberName(as ?? '')}: { matched: step${no}.matched, changed: step${no}.changed }`).join(', ')} },
    }
  })${this.isBooked ? '\n  })' : ''}
}
`
  }

  #forms(): string {
    const { steps, mappings, params } = this.plan
    const types = [...params.values()].map(({ type }) => type)
    // What a raw statement reads and gives is not known here, nor is a parameter without a type.
    if (steps.some(({ kind }) => kind === 'sql') || types.includes(null)) return ''
    const columns = [...mappings.values()].flatMap(({ properties }) => properties.map(({ column }) => column.type))
    return formsMember([...columns, ...types.filter((type) => type !== null)])
  }

  /** Where the transaction begins: booked, its run is known by then. */
  #begin(): string {
    if (!this.isBooked) return '  return s.inTransaction(db, LIMITS, async (client) => {\n'
    return `  const run = new b.Run(RUN)
  return b.keepingRefusals(db, run, async () => {
  await b.introduce(db, RUN.steps.map(({ statement }) => statement))
  return s.inTransaction(db, LIMITS, async (client) => {
    run.begin()
`
  }

  #ask(no: number): string {
    return this.isBooked ? `run.ask(client, ${no}, ` : 's.ask(client, '
  }

  /** Has the run know what came of a step. */
  #tell(step: PlannedStep): string {
    if (!this.isBooked) return ''
    return step.kind === 'require'
      ? `    run.tell(${step.no}, { matched: 1, changed: 0 })\n`
      : `    run.tell(${step.no}, step${step.no})\n`
  }

  /** What the entry of a run says of it and of its steps. */
  #runConstant(): string {
    const { plan } = this
    const steps = plan.steps.map((step) => {
      const statement = shownStatement(step)
      const mapping = 'mapping' in step ? step.mapping : null
      const touched = isWrite(step) ? (step.mapping.key.length === 0 ? step.mapping.properties : step.touched) : []
      const columns = (list: readonly { column: { name: string } }[]) =>
        list.map(({ column }) => quoted(column.name)).join(', ')
      const binds = statement.slots.map(
        ({ name, type, sensitive }) => `{ name: ${quoted(name)}, type: ${quoted(type)}, sensitive: ${sensitive} }`,
      )
      const writes = mayWrite(step)
      const reversible = !isWrite(step)
        ? writes
          ? 'no'
          : 'yes'
        : step.mapping.key.length === 0
          ? 'no'
          : (reversibilityOf(step.mapping, step.kind, step.set) ?? 'no')
      return `    {
      no: ${step.no}, name: ${step.as === null ? 'null' : quoted(step.as)}, expected: ${quoted(String(step.expect ?? 'any'))}, writes: ${writes}, reversible: ${quoted(reversible)},
      statement: {
        kind: ${quoted(step.kind)}, mapping: ${quoted(mapping?.name ?? '')}, revision: ${mapping?.revision ?? 0}, relation: ${quoted(mapping?.table.path ?? '')},
        keyColumns: [${columns(mapping?.key ?? [])}], touched: [${columns(touched)}],
        text: \`${inTemplate(statement.text)}\`,
        binds: [${binds.join(', ')}],${shortMember(statement)}
      },
    },\n`
    })
    const definitions = [...plan.mappings.values()]
      .map(({ name, revision }) => `${memberName(name)}: ${revision}`)
      .sort()
    return `const RUN: b.RunDefinition = {
  transaction: ${quoted(plan.name)}, revision: ${plan.revision ?? 0}, isolation: ${quoted(plan.isolation)},
  definitions: { ${definitions.join(', ')} },
  steps: [
${steps.join('')}  ],
}
`
  }

  /** What has to be true of the parameters: judged here, or asked at once. */
  #paramRules(): string {
    const { prologue, params } = this.plan
    if (prologue.rules.length === 0) return ''
    const slots = new SlotList()
    const parameters = new Map(
      [...params].map(([name, { type }]) => [name, type === null ? undefined : typeOfParam(type)]),
    )
    const conditions = prologue.rules.map(
      ({ expression }) => `coalesce(${valueSql(expression, null, slots, { parameters }, plainType('boolean'))}, false)`,
    )
    const statement = toStatement(`select ${conditions.join(', ')}`, slots)
    const binds = statement.slots.map(({ source }) => this.#bind(source, null, ROWS_LOOKED_AT))
    const here = conditions.map((condition) => judgedHere(unmarked(condition), binds))
    if (here.every((code) => code !== null))
      return prologue.rules
        .map(({ name, source }, at) => `    s.assertParam(${here[at]}, ${quoted(name)}, ${quoted(source)})\n`)
        .join('')
    this.#constants.push(
      `const PARAM_RULES = \`${inTemplate(statement.text)}\`\nconst PARAM_RULE_NAMES: readonly (readonly [name: string, rule: string])[] = [\n${prologue.rules.map(({ name, source }) => `  [${quoted(name)}, ${quoted(source)}],\n`).join('')}]\n`,
    )
    return `    s.assertParams(await s.ask(client, PARAM_RULES, [${this.#binds(statement, null)}]), PARAM_RULE_NAMES)\n`
  }

  #step(step: PlannedStep): string {
    const { no, as, when } = step
    const title = `    // ${no}. ${inComment(describe(step))}${as === null ? '' : ` as ${as}`}\n`
    const body = this.#body(step) + this.#tell(step)
    if (!when) return title + body
    const holds =
      this.#here(when.statement, step) ??
      `await s.holds(client, ${this.#constant(`WHEN_${no}`, when.statement)}, [${this.#binds(when.statement, step)}])`
    const declared = step.kind === 'require' ? '' : `    let step${step.no} = s.SKIPPED\n`
    return `${title}${declared}    if (${holds}) {\n${body.replace(/^(?=.)/gm, '  ')}    }\n`
  }

  #body(step: PlannedStep): string {
    const { no } = step
    const assigned = `${step.when ? '' : 'const '}step${no}`
    if (step.kind === 'require') {
      const { statement, source } = step.judgement
      return `    if (!${this.#required(step, statement)})
      throw new s.RuleBroken(${this.#words(step.otherwise)}, ${quoted(source)})\n`
    }
    const expect = step.expect
    if (expect === null)
      throw new LedgermanProblem(
        'count-required',
        `Step ${no} of ${this.plan.name} does not say how many rows it is meant to match: expect.`,
        { step: no, transaction: this.plan.name },
      )
    if (step.kind === 'sql') {
      const name = this.#constant(`STEP_${no}`, step.statement)
      const counted = `await ${this.isBooked ? `run.countOf(client, ${no}, ` : 's.countOf(client, '}${name}, [${this.#binds(step.statement, step)}])`
      return `    const matched${no} = ${counted}
    s.expectCount('step ${no}', ${json(expect)}, matched${no}, false)
    ${assigned} = { ...s.SKIPPED, matched: matched${no}, changed: ${step.writes ? `matched${no}` : '0'} }\n`
    }
    const { mapping } = step
    const found = this.#found(step)
    const what = quoted(`step ${no}, ${mapping.name}`)
    const width = mapping.properties.length
    if (step.kind === 'load') {
      const name = this.#constant(`STEP_${no}`, step.statement)
      const isKeyed = 'key' in step.finder
      return `${found.before}    ${assigned} = s.loadedBy(await ${this.#ask(no)}${name}, [${this.#binds(step.statement, step)}]), {
      what: ${what}, expect: ${json(expect)}, isKeyed: ${isKeyed}, width: ${width},${found.member}
    })\n`
    }
    const name = this.#constant(`STEP_${no}`, this.isBooked ? step.run : step.step)
    const own = (this.plan.definition.steps[no - 1] ?? {}) as { values?: RecordValues }
    const touched = step.kind === 'remove' ? [] : step.touched.map((property) => mapping.properties.indexOf(property))
    const set = step.set.map(
      (property) =>
        `[${quoted(property.name)}, ${mapping.properties.indexOf(property)}, ${supported(readerOf(property.column.type))}]`,
    )
    const loaded = step.loadedName === null ? '' : ` loaded: ${this.#stepOf(step.loadedName, no)}.row,`
    return `${found.before}    ${assigned} = s.writtenBy(await ${this.#ask(no)}${name}, [${this.#binds(this.isBooked ? step.run : step.step, step)}]), {
      what: ${what}, expect: ${json(expect)}, isKeyed: ${!step.isByWhere}, width: ${step.kind === 'add' ? 0 : width},${found.member}
      touched: [${touched.join(', ')}], rules: ${this.#rules(mapping)}, set: [${set.join(', ')}],
      yours: ${json((own.values ?? {}) as Json)}, letter: ${quoted(guardPrefix(mapping))},${loaded}
    })\n`
  }

  /** Whether what a step requires holds. */
  #required({ no }: PlannedStep, statement: Statement): string {
    const step = this.plan.steps[no - 1] as PlannedStep
    const binds = this.#binds(statement, step)
    const here = this.#here(statement, step)
    if (here !== null) return this.isBooked ? `run.judged(${no}, [${binds}], ${here})` : here
    const name = this.#constant(`REQUIRE_${no}`, statement)
    return `(await ${this.isBooked ? `run.holds(client, ${no}, ` : 's.holds(client, '}${name}, [${binds}]))`
  }

  /** The code of a statement that only compares two values which are here; null where it does more. */
  #here({ text, slots }: Statement, step: PlannedStep): string | null {
    return judgedHere(
      text.replace(/^select /, ''),
      slots.map(({ source }) => this.#bind(source, step, ROWS_LOOKED_AT)),
    )
  }

  /** Where rows that others hold are left out: how many fit, asked before. */
  #found(step: PlannedStep): { before: string; member: string } {
    if (!step.foundKeys || !this.plan.skipLocked) return { before: '', member: '' }
    const name = this.#constant(`FOUND_${step.no}`, step.foundKeys)
    return {
      before: `    const found${step.no} = (await s.ask(client, ${name}, [${this.#binds(step.foundKeys, step, '1000')}])).length\n`,
      member: ` found: found${step.no},`,
    }
  }

  #constant(name: string, statement: Statement): string {
    this.#constants.push(`const ${name} = \`\n${inTemplate(statement.text)}\`\n`)
    return name
  }

  #rules(mapping: Mapping): string {
    if (mapping.rules.length === 0) return '[]'
    let name = this.#rulesOf.get(mapping)
    if (name === undefined) {
      name = this.#rulesOf.size === 0 ? 'RULES' : `RULES_${this.#rulesOf.size + 1}`
      this.#rulesOf.set(mapping, name)
      this.#constants.push(
        `/** What has to be true of every ${inComment(mapping.name)} that is written. */\nconst ${name}: readonly (readonly [that: string, otherwise: string])[] = [\n${mapping.rules.map(({ that, otherwise }) => `  [${quoted(that)}, ${quoted(otherwise)}],\n`).join('')}]\n`,
      )
    }
    return name
  }

  /** The variable of the step that has that name, before this one. */
  #stepOf(name: string, before: number): string {
    const step = this.plan.steps.findLast(({ as, no }) => as === name && no < before)
    if (!step) throw new TypeError(`no step before ${before} is called ${name}`)
    return `step${step.no}`
  }

  #words({ parts }: Words): string {
    const text = parts.map((part) => {
      if (typeof part === 'string') return inTemplate(part)
      if ('parameter' in part)
        return this.plan.sensitiveParams.has(part.parameter) ? '…' : `\${p.${part.parameter} ?? 'null'}`
      return `\${${this.#loadedText(part.loaded, part.property, Infinity)} ?? 'null'}`
    })
    return `\`${text.join('')}\``
  }

  #loadedText(name: string, property: string, before: number): string {
    const step = this.plan.steps.findLast(({ as, no }) => as === name && no < before)
    const mapping = step && 'mapping' in step ? step.mapping : undefined
    const at = mapping?.properties.findIndex((each) => each.name === property) ?? -1
    if (!step || at < 0) throw new TypeError(`${name}.${property} is not loaded`)
    return `step${step.no}.row[${at}]`
  }

  #binds(statement: Statement, step: PlannedStep | null, limit = ROWS_LOOKED_AT): string {
    return statement.slots.map(({ source }) => this.#bind(source, step, limit)).join(', ')
  }

  #bind(source: SlotSource, step: PlannedStep | null, limit: string): string {
    const before = step?.no ?? 1
    switch (source.from) {
      case 'parameter':
        return `p.${source.name}`
      case 'loaded':
        return `${this.#loadedText(source.name, source.property, before)} ?? null`
      case 'outcome':
        return `String(${this.#stepOf(source.name, before)}.${source.of})`
      case 'literal':
      case 'value':
        return source.text === null ? 'null' : quoted(source.text)
      case 'expected':
        return textLiteral(step && isWrite(step) ? step.expectedTexts.get(source.property) : null)
      case 'guard':
        return step && isWrite(step) ? this.#guard(step) : 'null'
      case 'limit':
        return quoted(limit)
      case 'entry':
        return 'run.id'
      case 'step':
        return quoted(String(step?.no ?? 0))
      case 'digest key':
        return 'b.digestPads()'
      default:
        throw new TypeError(`a step of a transaction has no ${source.from}`)
    }
  }

  #guard(step: PlannedWrite): string {
    const { guards, mapping, loadedName, no } = step
    if (guards === 'loaded') return `\`{\${${this.#stepOf(loadedName ?? '', no)}.guard ?? ''}}\``
    if (guards === null || guards === 'any') return quoted('{}')
    if ('parameter' in guards) return `s.guardArray(p.${guards.parameter}, ${quoted(guardPrefix(mapping))})`
    return quoted(guardBind(mapping, { guards }))
  }
}

function shortMember({ short }: Statement): string {
  if (!short) return ''
  return `
        short: {
          text: \`${inTemplate(short.text)}\`,
          binds: [${short.binds.join(', ')}],
          around: [${short.around.map(quoted).join(', ')}],
        },`
}

function describe(step: PlannedStep): string {
  if (step.kind === 'require') return `require ${step.judgement.source}`
  return step.kind === 'sql' ? 'a raw statement' : `${step.kind} ${step.mapping.name}`
}

function mappingsOf({ mappings }: Plan): string {
  return (
    [...mappings.values()]
      .map(({ name, revision }) => `${name} ${revision}`)
      .sort()
      .join(', ') || 'no mapping'
  )
}

function textLiteral(text: string | null | undefined): string {
  return text === null || text === undefined ? 'null' : quoted(text)
}

/** A JSON value as an expression. */
function json(value: Json): string {
  return typeof value === 'string' ? quoted(value) : printJson(value)
}
