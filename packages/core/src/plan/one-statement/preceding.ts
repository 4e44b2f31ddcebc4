import type { Expectation } from '@ledgerman/contract'
import type { Mapping } from '../../mapping/mapping.js'
import { changesKey } from '../../statement/keyed-statement.js'
import type { Finder } from '../../statement/build-load-step.js'
import { isWrite, type Plan, type PlannedStep, type PlannedWrite } from '../plan.js'

/** Where a step of a run that is one statement finds its rows: in its table, or among those an earlier step locked. */
export type Source = 'table' | { step: number }

/**
 * What the steps before one leave behind, as far as it says whether that one may be part of the same statement.
 *
 * All parts of a statement see the rows as they were when it began, but for rows they lock: of those they see the latest
 * version. A step run by itself sees what was committed while the ones before it waited, and what they wrote. So a part may
 * only follow one that could wait, or that wrote its table, where it finds one row by its key and locks it: then it sees the
 * latest version, or nothing, and nothing is refused.
 */
export class Preceding {
  readonly #sees: 'what is committed' | 'what was committed at its beginning'
  #mayHaveWaited = false
  readonly #written = new Map<string, Mapping>()
  readonly #locked: LockingLoad[] = []
  readonly #sources = new Map<PlannedStep, Source>()
  readonly #targets = new Set<string>()

  /** @param tellsRows whether the statement gives the rows that it found and wrote */
  constructor(
    readonly plan: Plan,
    readonly tellsRows: boolean,
  ) {
    this.#sees = plan.isolation === 'read committed' ? 'what is committed' : 'what was committed at its beginning'
  }

  /** Where the step may find its rows; undefined where it has to be a statement of its own. */
  sourceOf(step: PlannedStep): Source | undefined {
    if (step.kind === 'require') return 'table'
    if (step.kind === 'sql' || step.foundKeys) return undefined
    // Callers who share a statement share its locks, and would all take the same first rows.
    if (step.kind === 'load' && step.first) return undefined
    const { mapping } = step
    if (mapping.key.length === 0) return undefined
    // Nothing may be found out about a value only after the run was committed; of an array, that JSON cannot say it.
    if (this.tellsRows && mapping.properties.some(({ column }) => column.type.element !== null)) return undefined
    if (step.kind !== 'load') return this.#mayWrite(step) ? (this.#lockedFor(step) ?? 'table') : undefined
    const source = this.#sourceOfLoad(step)
    if (source) this.#sources.set(step, source)
    return source
  }

  /** Whether a step that reads other records beside its own (links, `exists`, `count`) sees them as it should. */
  get showsOthers(): boolean {
    return !this.#isLate && this.#written.size === 0
  }

  add(step: PlannedStep): void {
    if (step.kind === 'load') {
      if (step.lock === 'none') return
      if (!step.when) this.#locked.push(step)
      this.#mayHaveWaited = true
    } else if (isWrite(step)) {
      this.#written.set(step.mapping.table.path, step.mapping)
      this.#targets.add(this.#targetOf(step))
      this.#mayHaveWaited = true
    }
  }

  get #isLate(): boolean {
    return this.#sees === 'what is committed' && this.#mayHaveWaited
  }

  #sourceOfLoad(step: Extract<PlannedStep, { kind: 'load' }>): Source | undefined {
    const { mapping, finder, lock } = step
    if (mapping.table.kind !== 'table' && mapping.table.kind !== 'partitioned table') return undefined
    const wasWritten = this.#written.has(mapping.table.path)
    if (!wasWritten && !this.#isLate) return 'table'
    const isOne = 'key' in finder && isOneExpected(step.expect)
    if (!isOne) return undefined
    if (lock !== 'none') return 'table'
    const locked = this.#locked.findLast((each) => each.mapping === mapping && isNamedBy(finder, each.finder))
    return locked === undefined || wasWritten ? undefined : { step: locked.no }
  }

  /** The rows that are locked for a change already, where the row to be changed has to be among them. */
  #lockedFor({ mapping, shape, kind, set, loadedName }: PlannedWrite): Source | undefined {
    // What the stamp is taken from is only on the table's own row.
    if (shape.kind === 'add' || kind === 'remove' || changesKey(mapping, set) || mapping.guard.by === 'rowStamp')
      return undefined
    // Whether an earlier step wrote the row can be told by the same key only.
    const written = this.#written.get(mapping.table.path)
    if (written && written !== mapping) return undefined
    const { finder } = shape
    const loaded = this.plan.steps.find(({ as }) => as !== null && as === loadedName)
    const from = loaded && this.#sources.get(loaded)
    const no = from === undefined ? undefined : from === 'table' ? loaded?.no : from.step
    const locked = this.#locked.findLast(
      (each) =>
        each.lock === 'change' &&
        each.mapping === mapping &&
        (loaded ? each.no === no : 'key' in finder && isNamedBy(finder, each.finder)),
    )
    return locked && { step: locked.no }
  }

  #mayWrite(step: PlannedWrite): boolean {
    const { mapping, shape } = step
    const { table } = mapping
    if (!table.isPlain || step.expect === null) return false
    // A foreign key is checked at the statement's end, which is too late to refuse what a step of its own would be refused for.
    const refersHere = (other: Mapping) => other.table.references.some((reference) => reference.table === table.path)
    if (shape.kind === 'add')
      return shape.onExisting === 'refuse' && shape.values.length > 0 && ![...this.#written.values()].some(refersHere)
    const touchesReferenced =
      step.kind === 'remove'
        ? table.referencedBy.length > 0
        : table.referencedBy.some(({ columns }) => step.set.some((property) => columns.includes(property.column.name)))
    if (touchesReferenced || this.#targets.has(this.#targetOf(step))) return false
    if (step.loadedName !== null && !this.#isPlainLoad(step.loadedName)) return false
    if (!this.#isLate && !this.#written.has(table.path)) return true
    return 'key' in shape.finder && isOneExpected(step.expect)
  }

  #isPlainLoad(name: string): boolean {
    const step = this.plan.steps.find(({ as }) => as === name)
    return step?.kind === 'load' && step.when === null
  }

  /** What a step is said to write: one that is said to be written twice has to be written by two statements. */
  #targetOf({ mapping, shape, no }: PlannedWrite): string {
    if (shape.kind === 'add' || !('key' in shape.finder)) return String(no)
    const key = shape.finder.key.map(({ property, expression }) => [property, expression.source])
    return JSON.stringify([mapping.table.path, ...key.sort()])
  }
}

type LockingLoad = Extract<PlannedStep, { kind: 'load' }>

/** Whether what a key is said to be stands in the other finder as well: so the row is most likely among those that one found. */
function isNamedBy(finder: Finder, other: Finder): boolean {
  if (!('key' in finder)) return false
  const said = 'where' in other ? [other.where?.source ?? ''] : other.key.map(({ expression }) => expression.source)
  return finder.key.every(({ expression }) => said.some((source) => source.includes(expression.source)))
}

function isOneExpected(expect: Expectation | null): boolean {
  return expect === 'one' || expect === 1
}
