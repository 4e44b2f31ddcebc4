import { plainType } from '../values/value-type.js'
import type { TransactionDefinition } from '@ledgerman/contract'
import { valueSql } from '../statement/record-scope.js'
import { SlotList, toStatement, type SlotSource } from '../statement/statement.js'
import type { DefinitionScope } from './definition-scope.js'
import type { Plan } from './plan.js'

/** What goes ahead of a run's steps in its transaction: the actor, its name among the sessions, its limits, and the parameters' rules. */
export function resolvePrologue(
  { params = {} }: Pick<TransactionDefinition, 'params'>,
  scope: DefinitionScope,
  { lockWaitMs, timeLimitMs }: { lockWaitMs: number | null; timeLimitMs: number | null },
): Plan['prologue'] {
  const slots = new SlotList()
  const text = (slotName: string, source: SlotSource) =>
    `${slots.add({ name: slotName, type: 'text', sensitive: false, source })}::text`
  // lock_timeout 0 would wait for ever: one millisecond is at once.
  const limit = (setting: string, ms: number | null) =>
    ms === null
      ? []
      : [
          `pg_catalog.set_config('${setting}', ${text(`:${setting}`, { from: 'value', text: String(Math.max(1, ms)), at: setting })}, true)`,
        ]
  const settings = [
    `pg_catalog.set_config('ledgerman.actor', ${text(':actor', { from: 'actor' })}, true)`,
    `pg_catalog.set_config('application_name', 'ledgerman run ' || ${text(':run', { from: 'entry', field: 'id' })}, true)`,
    ...limit('lock_timeout', lockWaitMs),
    ...limit('statement_timeout', timeLimitMs),
  ]
  const rules = Object.entries(params).flatMap(([param, { rule }]) => {
    const named = rule === undefined ? undefined : scope.read(`params.${param}.rule`, rule)
    const sql =
      named &&
      scope.attempt(named.label, () => valueSql(named, null, slots, scope.surroundings(slots), plainType('boolean')))
    return named && sql !== undefined ? [{ name: param, expression: named, sql: `coalesce(${sql}, false)` }] : []
  })
  return {
    statement: toStatement(`select ${[...settings, ...rules.map(({ sql }) => sql)].join(', ')}`, slots),
    settings: settings.length,
    rules: rules.map(({ name: param, expression }) => ({ name: param, source: expression.source, expression })),
  }
}
