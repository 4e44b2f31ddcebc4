import { printJson, type StepDefinition } from '@ledgerman/contract'

export interface StepDescription {
  does: 'reads' | 'changes' | 'requires'
  title: string
  detail: string
  tags: string[]
}

/** A step in a few words: what it is about, which rows, what it sets. */
export function describeStep(step: StepDefinition): StepDescription {
  const as = 'as' in step && step.as !== undefined ? [`as ${step.as}`] : []
  const expect = 'expect' in step && step.expect !== undefined ? [`expects ${step.expect}`] : []
  if ('require' in step) return { does: 'requires', title: 'require', detail: step.require, tags: [] }
  if ('sql' in step)
    return {
      does: step.changes ? 'changes' : 'reads',
      title: 'sql',
      detail: step.sql.replace(/\s+/g, ' ').trim(),
      tags: [...as, ...expect],
    }
  if ('load' in step) {
    const lock =
      step.lock !== undefined && step.lock !== 'none' ? [step.lock === 'share' ? 'locks (share)' : 'locks'] : []
    const { order, limit } = step
    const first = limit === undefined ? [] : [limit === 1 ? 'the first' : `the first ${limit}`]
    const detail = [rowsOf(step), ...(order === undefined ? [] : [`by ${order}`])].join(', ')
    return { does: 'reads', title: `load ${step.load}`, detail, tags: [...as, ...first, ...expect, ...lock] }
  }
  const [kind, subject] =
    'change' in step
      ? ['change', step.change]
      : 'replace' in step
        ? ['replace', step.replace]
        : 'add' in step
          ? ['add', step.add]
          : ['remove', step.remove]
  const sets =
    'remove' in step
      ? []
      : [
          ...Object.entries(step.values ?? {}).map(([name, value]) => `${name} := ${printJson(value)}`),
          ...Object.entries(step.compute ?? {}).map(([name, source]) => `${name} := ${String(source)}`),
        ]
  const rows = 'add' in step ? '' : rowsOf(step)
  return {
    does: 'changes',
    title: `${kind} ${subject}`,
    detail: [rows, sets.join(', ')].filter(Boolean).join('  ·  '),
    tags: [...as, ...expect],
  }
}

function rowsOf(step: { key?: Record<string, unknown> | undefined; where?: string | undefined }): string {
  if (step.where !== undefined) return `where ${step.where}`
  return Object.entries(step.key ?? {})
    .map(([name, source]) => `${name} = ${String(source)}`)
    .join(', ')
}
