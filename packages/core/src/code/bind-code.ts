import { guardBind, guardPrefix } from '../mapping/guard-value.js'
import { isWrite, type Plan, type PlannedStep, type PlannedWrite, type Words } from '../plan/plan.js'
import type { SlotSource, Statement } from '../statement/statement.js'
import { inTemplate, memberOf, quoted } from './text.js'

/** How many rows a step looks at one by one; the others are counted where they are. */
const ROWS_LOOKED_AT = '1'

/** The code of what fills the statements of a transaction: parameters in `p`, what earlier steps gave in `stepN`. */
export class BindCode {
  constructor(readonly plan: Plan) {}

  /** The variable of the step that has that name, before this one. */
  stepOf(name: string, before: number): string {
    const step = this.plan.steps.findLast(({ as, no }) => as === name && no < before)
    if (!step) throw new TypeError(`no step before ${before} is called ${name}`)
    return `step${step.no}`
  }

  /** Words with their values, as a template. */
  words({ parts }: Words): string {
    const text = parts.map((part) => {
      if (typeof part === 'string') return inTemplate(part)
      if ('parameter' in part)
        return this.plan.sensitiveParams.has(part.parameter) ? '…' : `\${${memberOf('p', part.parameter)} ?? 'null'}`
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

  /** What fills the slots of a statement, in order. */
  binds(statement: Statement, step: PlannedStep | null, limit = ROWS_LOOKED_AT): string {
    return statement.slots.map(({ source }) => this.bind(source, step, limit)).join(', ')
  }

  bind(source: SlotSource, step: PlannedStep | null, limit = ROWS_LOOKED_AT): string {
    const before = step?.no ?? 1
    switch (source.from) {
      case 'parameter':
        return memberOf('p', source.name)
      case 'loaded':
        return `${this.#loadedText(source.name, source.property, before)} ?? null`
      case 'outcome':
        return `String(${this.stepOf(source.name, before)}.${source.of})`
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
    if (guards === 'loaded') return `\`{\${${this.stepOf(loadedName ?? '', no)}.guard ?? ''}}\``
    if (guards === null || guards === 'any') return quoted('{}')
    if ('parameter' in guards)
      return `s.guardArray(${memberOf('p', guards.parameter)}, ${quoted(guardPrefix(mapping))})`
    return quoted(guardBind(mapping, { guards }))
  }
}

function textLiteral(text: string | null | undefined): string {
  return text === null || text === undefined ? 'null' : quoted(text)
}
