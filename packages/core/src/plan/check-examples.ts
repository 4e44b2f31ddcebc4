import type { Json } from '@ledgerman/contract'
import type { DefinitionFinding } from '../mapping/resolve-mapping.js'
import { readParams } from '../run/params.js'
import { bindValues } from '../statement/statement.js'
import type { Target } from '../target/target.js'
import type { Plan } from './plan.js'

/** Finds examples that break a rule of their parameters: those are evaluated by the database, as in a run. */
export async function checkExamples(target: Target, plan: Plan): Promise<DefinitionFinding[]> {
  const { paramRules, definition } = plan
  const findings: DefinitionFinding[] = []
  if (!paramRules) return findings
  for (const [at, example] of (definition.examples ?? []).entries()) {
    const params = readParams(plan, example as Record<string, Json>)
    const values = bindValues(paramRules.statement, (source) =>
      source.from === 'parameter' ? (params.get(source.name) ?? null) : source.from === 'literal' ? source.text : null,
    )
    const { rows } = await target.readOnly(paramRules.statement.text, values)
    rows[0]?.forEach((verdict, rule) => {
      const name = paramRules.names[rule]
      if (verdict !== 't')
        findings.push({
          where: `examples.${at + 1}.${name}`,
          message: `it breaks the rule of ${name}: ${paramRules.sources[rule]}`,
        })
    })
  }
  return findings
}
