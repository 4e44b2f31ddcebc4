import type { Json } from '@ledgerman/contract'
import type { DefinitionFinding } from '../mapping/resolve-mapping.js'
import { readParams } from './read-params.js'
import { bindValues } from '../statement/statement.js'
import type { Target } from '../target/target.js'
import type { Plan } from './plan.js'

/** Finds examples that break a rule of their parameters: those are evaluated by the database, as in a run. */
export async function checkExamples(target: Target, plan: Plan): Promise<DefinitionFinding[]> {
  const { prologue, definition } = plan
  const findings: DefinitionFinding[] = []
  if (prologue.rules.length === 0) return findings
  for (const [at, example] of (definition.examples ?? []).entries()) {
    const params = readParams(plan, example as Record<string, Json>)
    const values = bindValues(prologue.statement, (source) => {
      if (source.from === 'parameter') return params.get(source.name) ?? null
      return source.from === 'literal' || source.from === 'value' ? source.text : null
    })
    const { rows } = await target.readOnly(prologue.statement.text, values)
    prologue.rules.forEach(({ name, source }, rule) => {
      if (rows[0]?.[prologue.settings + rule] !== 't')
        findings.push({ where: `examples.${at + 1}.${name}`, message: `it breaks the rule of ${name}: ${source}` })
    })
  }
  return findings
}
