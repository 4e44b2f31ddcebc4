import type { BrokenValue, LedgermanProblem } from '@ledgerman/contract'
import type { Mapping } from '../../mapping/mapping.js'
import { shownRecord } from '../../mapping/record-row.js'
import { bindValues, type SlotSource } from '../../statement/statement.js'
import { inRehearsal } from '../../target/in-transaction.js'
import type { Target } from '../../target/target.js'
import { brokenValues } from './broken-values.js'
import { readKeyedRow } from './keyed-row.js'
import type { KeyedStep } from './keyed-step.js'
import { loadRecord } from './load-record.js'

/** A refused step, as far as it is looked at again. */
interface RefusedStep {
  target: Target
  mapping: Mapping
  step: KeyedStep
  options: { actor: string }
  valueOf: (source: SlotSource) => string | null
}

/**
 * Adds the values that break a rule, where the statement only said which rule it was. It is rehearsed for that: the message of an error that
 * holds them would stand in the server's log. Where the rehearsal says anything else, nothing is added.
 */
export async function explainRule(run: RefusedStep, problem: LedgermanProblem): Promise<LedgermanProblem> {
  const { target, mapping, step, options } = run
  const at = mapping.rules.findIndex(({ that }) => that === problem.facts['rule'])
  const rule = mapping.rules[at]
  if (!rule || problem.facts['broken'] !== undefined) return problem
  try {
    const { rows } = await inRehearsal(target, async (session) => {
      await session.query(`select pg_catalog.set_config('ledgerman.actor', $1, true)`, [options.actor])
      return session.query(step.statement.step.text, bindValues(step.statement.step, run.valueOf))
    })
    const [row] = rows
    if (!row || rows.length > 1) return problem
    const { after, brokenRule } = readKeyedRow(mapping, step.statement, row)
    return after && brokenRule === at + 1 ? problem.with({ broken: brokenValues(mapping, rule, after) }) : problem
  } catch {
    return problem
  }
}

/**
 * Adds the values that break a constraint: what was to be set, and of the other properties that it names what the record has, where it is still as
 * the guard says. What the database itself would have written is not known.
 */
export async function explainConstraint(
  { target, mapping, step }: RefusedStep,
  problem: LedgermanProblem,
): Promise<LedgermanProblem> {
  const names = (problem.facts['properties'] as string[] | undefined) ?? []
  const properties = names.flatMap((name) => mapping.byName.get(name) ?? [])
  if (properties.length === 0 || step.statement.kind === 'remove') return problem
  const { texts } = step.set
  const needsLoad = step.statement.kind !== 'add' && properties.some(({ name }) => !texts.has(name))
  const current = needsLoad ? await stillAsGuarded(target, mapping, step) : undefined
  const broken = properties.flatMap((property): BrokenValue[] => {
    const { name, sensitive } = property
    if (!texts.has(name) && !current) return []
    if (sensitive) return [{ property: name, value: null, masked: true }]
    const value = texts.has(name) ? shownRecord([property], [texts.get(name) ?? null])[name] : current?.[name]
    return [{ property: name, value }]
  })
  return broken.length === 0 ? problem : problem.with({ broken })
}

/** The record, where its guard is the one that was given; undefined where it is not, or cannot be read. */
async function stillAsGuarded(target: Target, mapping: Mapping, { key, guard }: KeyedStep) {
  if (guard === 'any') return undefined
  const loaded = await loadRecord(target, mapping, key).catch(() => undefined)
  return loaded && loaded.guard !== null && guard.guards.includes(loaded.guard) ? loaded.record : undefined
}
