import { isWrite, mayWrite, shownStatement, type Plan } from '../plan/plan.js'
import { stepReversibility } from '../plan/run-reversibility.js'
import type { Statement } from '../statement/statement.js'
import { inTemplate, memberName, quoted } from './text.js'

/** What the entry of a run says of it and of its steps, as a constant. */
export function runConstant(plan: Plan & { name: string }): string {
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
    const reversible = isWrite(step) ? (stepReversibility(step) ?? 'no') : writes ? 'no' : 'yes'
    return `    {
      no: ${step.no}, name: ${step.as === null ? 'null' : quoted(step.as)}, expected: ${quoted(String(step.expect ?? 'any'))}, writes: ${writes}, reversible: ${quoted(reversible)},
      statement: {
        kind: ${quoted(step.kind)}, mapping: ${quoted(mapping?.name ?? '')}, revision: ${mapping?.revision ?? 0}, relation: ${quoted(mapping?.table.path ?? '')},
        keyColumns: [${columns(mapping?.key ?? [])}],${isWrite(step) && step.kind === 'change' && step.set.some(({ key }) => key) ? ' movesKey: true,' : ''} touched: [${columns(touched)}],
        text: \`${inTemplate(statement.text)}\`,
        binds: [${binds.join(', ')}],${shortMember(statement)}
      },
    },\n`
  })
  const definitions = [...plan.mappings.values()].map(({ name, revision }) => `${memberName(name)}: ${revision}`).sort()
  return `const RUN: b.RunDefinition = {
  transaction: ${quoted(plan.name)}, revision: ${plan.revision ?? 0}, isolation: ${quoted(plan.isolation)},
  definitions: { ${definitions.join(', ')} },
  steps: [
${steps.join('')}  ],
}
`
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
