import { plainType } from '../values/value-type.js'
import { LedgermanProblem, printJson, type Json, type RecordValues } from '@ledgerman/contract'
import { guardPrefix } from '../mapping/guard-value.js'
import type { Mapping } from '../mapping/mapping.js'
import { isRowRead, isWrite, type Plan, type PlannedStep, type PlannedWrite } from '../plan/plan.js'
import { typeOfParam } from '../plan/resolve-params.js'
import { valueSql } from '../statement/record-scope.js'
import { SlotList, toStatement, type Statement } from '../statement/statement.js'
import { BindCode } from './bind-code.js'
import { judgedHere } from './judged-here.js'
import { lockedBefore } from './locked-before.js'
import { supported, unmarked } from './mapping-code.js'
import type { TransactionNames } from './names.js'
import { formsMember } from './text-forms.js'
import { assertParamNames, paramMember, paramValue } from './param-code.js'
import { inComment, inTemplate, memberName, memberOf, quoted } from './text.js'
import { runConstant } from './run-constant.js'
import { readerOf } from './value-code.js'
import { wholeCode, type WholeCode } from './whole-code.js'

const DEFAULTS = { lockWaitMs: 2_000, timeLimitMs: 10_000 }

/**
 * Writes the file of a transaction: one function with typed parameters, which runs its steps between BEGIN and COMMIT.
 *
 * @throws LedgermanProblem count-required where a step does not say how many rows it is meant to match.
 */
export function emitTransaction(plan: Plan & { name: string }, names: TransactionNames, isBooked: boolean): string {
  return new TransactionCode(plan, names, isBooked).text()
}

/** The rules of parameters as code: those that the program judges, or all of them, asked of the database. */
interface ParamRules {
  judged: string
  asked: string
}

class TransactionCode {
  /** Constants ahead of the function: statements, rules. */
  readonly #constants: string[] = []
  readonly #rulesOf = new Map<Mapping, string>()
  readonly #code
  /** All steps as one statement: only where their entry is written, so that it takes fewer round trips than any audit by hand. */
  #whole: WholeCode | undefined

  constructor(
    readonly plan: Plan & { name: string },
    readonly names: TransactionNames,
    readonly isBooked: boolean,
  ) {
    this.#code = new BindCode(plan)
  }

  text(): string {
    const { plan, names } = this
    const { name, revision, definition, isolation, lockWaitMs, skipLocked, timeLimitMs, retry } = plan
    const params = [...plan.params.values()]
    const steps = plan.steps.map((step) => this.#step(step)).join('\n')
    const rules = this.#paramRules()
    if (this.isBooked) this.#whole = wholeCode(plan, this.#code, rules.asked === '')
    const limits = `{ isolation: ${quoted(isolation)}, lockWaitMs: ${lockWaitMs ?? DEFAULTS.lockWaitMs}, timeLimitMs: ${timeLimitMs ?? DEFAULTS.timeLimitMs}, retries: ${retry}${this.#forms()} }`
    const named = plan.steps.filter(({ as }) => as !== null)
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

${[...this.#constants, ...(this.#whole ? [this.#whole.constant] : [])].join('\n')}
${this.isBooked ? runConstant(this.plan) : ''}
/**
 * ${inComment(definition.summary ?? `Runs ${name}.`)}
 *
 * @throws DataError: then nothing was changed, but for OutcomeUnknown
 */
export async function ${names.fn}(db: s.Db, params: ${names.type}Params): Promise<${names.type}Result> {
${assertParamNames(params)}${params.length > 0 ? `  const p = {\n${params.map(paramValue).join('')}  }\n` : ''}${this.#transaction(rules, steps)}}
`
  }

  /** From BEGIN to COMMIT, and what is told of it. */
  #transaction(rules: ParamRules, steps: string): string {
    if (!this.isBooked)
      return `  return s.inTransaction(db, LIMITS, async (client) => {
${rules.judged}${rules.asked}${steps}
    return ${this.#result(({ no }) => `step${no}`)}
  })
`
    const booked = `  const run = new b.Run(RUN)
  return b.keepingRefusals(db, run, async () => {
`
    const introduced = `    await b.introduce(db, RUN.steps.map(({ statement }) => statement))\n`
    if (!this.#whole)
      return `${booked}${introduced}    return s.inTransaction(db, LIMITS, async (client) => {
    run.begin()
${rules.judged}${rules.asked}${steps}
    await run.book(client)
    return ${this.#result(({ no }) => `step${no}`)}
    })
  })
`
    return `${booked}${rules.judged}${introduced}    await b.asOne(db, LIMITS, run, WHOLE, () => [
${this.#whole.binds.map((bind) => `      ${bind},\n`).join('')}    ], async (client) => {
    run.begin()
${rules.asked}${steps}
    await run.book(client)
    })
    return ${this.#result(({ no }) => `run.counts(${no})`)}
  })
`
  }

  /** What the caller is told of its steps, each by an expression. */
  #result(stepOf: (step: PlannedStep) => string): string {
    const { steps } = this.plan
    const writing = steps.filter((step) => isWrite(step) || (step.kind === 'sql' && step.writes))
    const total = (of: string) => writing.map((step) => `${stepOf(step)}.${of}`).join(' + ') || '0'
    const named = steps.flatMap((step) => {
      if (step.as === null) return []
      const name = memberName(step.as)
      return [`${name}: { matched: ${stepOf(step)}.matched, changed: ${stepOf(step)}.changed }`]
    })
    return `{
      matched: ${total('matched')},
      changed: ${total('changed')},
      steps: { ${named.join(', ')} },
    }`
  }

  #forms(): string {
    const { steps, mappings, params } = this.plan
    const types = [...params.values()].map(({ type }) => type)
    // What a raw statement reads and gives is not known here, nor is a parameter without a type.
    if (steps.some(({ kind }) => kind === 'sql') || types.includes(null)) return ''
    const columns = [...mappings.values()].flatMap(({ properties }) => properties.map(({ column }) => column.type))
    return formsMember([...columns, ...types.filter((type) => type !== null)])
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

  /** What has to be true of the parameters: judged here, or asked at once. */
  #paramRules(): ParamRules {
    const { prologue, params } = this.plan
    if (prologue.rules.length === 0) return { judged: '', asked: '' }
    const slots = new SlotList()
    const parameters = new Map(
      [...params].map(([name, { type }]) => [name, type === null ? undefined : typeOfParam(type)]),
    )
    const conditions = prologue.rules.map(
      ({ expression }) => `coalesce(${valueSql(expression, null, slots, { parameters }, plainType('boolean'))}, false)`,
    )
    const statement = toStatement(`select ${conditions.join(', ')}`, slots)
    const binds = statement.slots.map(({ source }) => this.#code.bind(source, null))
    const here = conditions.map((condition) => judgedHere(unmarked(condition), binds))
    if (here.every((code) => code !== null))
      return {
        judged: prologue.rules
          .map(({ name, source }, at) => `    s.assertParam(${here[at]}, ${quoted(name)}, ${quoted(source)})\n`)
          .join(''),
        asked: '',
      }
    this.#constants.push(
      `const PARAM_RULES = \`${inTemplate(statement.text)}\`\nconst PARAM_RULE_NAMES: readonly (readonly [name: string, rule: string])[] = [\n${prologue.rules.map(({ name, source }) => `  [${quoted(name)}, ${quoted(source)}],\n`).join('')}]\n`,
    )
    return {
      judged: '',
      asked: `    s.assertParams(await s.ask(client, PARAM_RULES, [${this.#code.binds(statement, null)}]), PARAM_RULE_NAMES)\n`,
    }
  }

  #step(step: PlannedStep): string {
    const { no, as, when } = step
    const title = `    // ${no}. ${inComment(describe(step))}${as === null ? '' : ` as ${as}`}\n`
    const body = this.#body(step) + this.#tell(step)
    if (!when) return title + body
    const holds =
      this.#here(when.statement, step) ??
      `await s.holds(client, ${this.#constant(`WHEN_${no}`, when.statement)}, [${this.#code.binds(when.statement, step)}])`
    const declared = step.kind === 'require' ? '' : `    let step${step.no} = s.SKIPPED\n`
    return `${title}${declared}    if (${holds}) {\n${body.replace(/^(?=.)/gm, '  ')}    }\n`
  }

  #body(step: PlannedStep): string {
    const { no } = step
    const assigned = `${step.when ? '' : 'const '}step${no}`
    if (step.kind === 'require') {
      const { statement, source } = step.judgement
      return `    if (!${this.#required(step, statement)})
      throw new s.RuleBroken(${this.#code.words(step.otherwise)}, ${quoted(source)})\n`
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
      const counted = `await ${this.isBooked ? `run.countOf(client, ${no}, ` : 's.countOf(client, '}${name}, [${this.#code.binds(step.statement, step)}])`
      return `    const matched${no} = ${counted}
    s.expectCount('step ${no}', ${json(expect)}, matched${no}, false)
    ${assigned} = { ...s.SKIPPED, matched: matched${no}, changed: ${step.writes ? `matched${no}` : '0'} }\n`
    }
    const found = this.#found(step)
    if (step.kind === 'load') return found.before + this.#load(step, assigned, found.member)
    return found.before + this.#write(step, assigned, found.member)
  }

  /** A load: among the rows that an earlier one locked, where its row is there, and asked for where not. */
  #load(step: Extract<PlannedStep, { kind: 'load' }>, assigned: string, found: string): string {
    const { no, mapping, finder, expect } = step
    const statement = step.inCode()
    const width = mapping.properties.length
    const binds = this.#code.binds(statement, step, typeof expect === 'number' ? String(expect) : undefined)
    let rows = `await ${this.#ask(no)}${this.#constant(`STEP_${no}`, statement)}, [${binds}])`
    const before = lockedBefore(this.plan, step)
    if (before && 'key' in finder) {
      const key = finder.key.map(({ property, expression: { expression } }) => {
        const name = expression.kind === 'parameter' ? expression.name : ''
        return `[${mapping.properties.findIndex((each) => each.name === property)}, ${memberOf('p', name)}]`
      })
      const among = `s.among(rows${before.no}, ${width}, [${key.join(', ')}])`
      rows = `${this.isBooked ? `run.known(${no}, [${binds}], ${among})` : among} ?? (${rows})`
    }
    const isKept = this.plan.steps.some((each) => each.kind === 'load' && lockedBefore(this.plan, each) === step)
    const kept = isKept ? `    const rows${no} = ${rows}\n` : ''
    return `${kept}    ${assigned} = s.loadedBy(${isKept ? `rows${no}` : rows}, {
      what: ${quoted(`step ${no}, ${mapping.name}`)}, expect: ${json(expect)}, isKeyed: ${'key' in finder}, width: ${width},${found}
    })\n`
  }

  /** A step that writes: by one statement that tells all, or by one that finds the row only where it may be written, and a look where it finds none. */
  #write(step: PlannedWrite, assigned: string, found: string): string {
    const { no, mapping, expect } = step
    const statements = step.inCode(isRowRead(step))
    const sent = (name: string, statement: Statement) =>
      `${this.#constant(`${name}_${no}`, statement)}, [${this.#code.binds(statement, step)}]`
    const own = (this.plan.definition.steps[no - 1] ?? {}) as { values?: RecordValues }
    const set = step.set.map(
      (property) =>
        `[${quoted(property.name)}, ${mapping.properties.indexOf(property)}, ${supported(readerOf(property.column.type))}]`,
    )
    const loaded = step.loadedName === null ? '' : ` loaded: ${this.#code.stepOf(step.loadedName, no)}.row,`
    const width = mapping.properties.length
    const told = `what: ${quoted(`step ${no}, ${mapping.name}`)}, expect: ${json(expect)}, isKeyed: ${!step.isByWhere}, width: ${width},${found}`
    const said = `rules: ${this.#rules(mapping)}, set: [${set.join(', ')}],
      yours: ${json((own.values ?? {}) as Json)}, letter: ${quoted(guardPrefix(mapping))},${loaded}`
    const write = sent('STEP', this.isBooked ? statements.booked : statements.write)
    if (statements.isDirect) {
      const look = statements.look ? `\n      look: () => s.ask(client, ${sent('LOOK', statements.look)}),` : ''
      return `    ${assigned} = await s.writtenOne({
      write: () => ${this.#ask(no)}${write}),${look}
      ${told}
      ${isRowRead(step) ? '' : 'given: 0, '}${said}
    })\n`
    }
    const touched = step.kind === 'remove' ? [] : step.touched.map((property) => mapping.properties.indexOf(property))
    const asked = `${this.#ask(no)}${write})`
    const rows =
      step.kind === 'add' ? `s.addedOrChanged(${quoted(`step ${no}, ${mapping.name}`)}, () => ${asked})` : asked
    return `    ${assigned} = s.writtenBy(await ${rows}, {
      ${told}
      touched: [${touched.join(', ')}], ${said}
    })\n`
  }

  /** Whether what a step requires holds. */
  #required({ no }: PlannedStep, statement: Statement): string {
    const step = this.plan.steps[no - 1] as PlannedStep
    const binds = this.#code.binds(statement, step)
    const here = this.#here(statement, step)
    if (here !== null) return this.isBooked ? `run.known(${no}, [${binds}], ${here})` : here
    const name = this.#constant(`REQUIRE_${no}`, statement)
    return `(await ${this.isBooked ? `run.holds(client, ${no}, ` : 's.holds(client, '}${name}, [${binds}]))`
  }

  /** The code of a statement that only compares two values which are here; null where it does more. */
  #here({ text, slots }: Statement, step: PlannedStep): string | null {
    return judgedHere(
      text.replace(/^select /, ''),
      slots.map(({ source }) => this.#code.bind(source, step)),
    )
  }

  /** Where rows that others hold are left out: how many fit, asked before. */
  #found(step: PlannedStep): { before: string; member: string } {
    if (!step.foundKeys || !this.plan.skipLocked) return { before: '', member: '' }
    const name = this.#constant(`FOUND_${step.no}`, step.foundKeys)
    return {
      before: `    const found${step.no} = (await s.ask(client, ${name}, [${this.#code.binds(step.foundKeys, step, '1000')}])).length\n`,
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

/** A JSON value as an expression. */
function json(value: Json): string {
  return typeof value === 'string' ? quoted(value) : printJson(value)
}
