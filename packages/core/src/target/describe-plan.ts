/** A node of PostgreSQL's plan as EXPLAIN (FORMAT JSON) prints it (PostgreSQL, "Using EXPLAIN"). */
export interface PlanNode {
  'Node Type': string
  'Plan Rows': number
  'Relation Name'?: string
  'Index Name'?: string
  'Index Cond'?: string
  'Recheck Cond'?: string
  'Sort Key'?: string[]
  'Parent Relationship'?: string
  Filter?: string
  Plans?: PlanNode[]
}

/** Up to so many rows a table is read as a whole sooner than through an index, and rightly so. */
const SMALL = 1_000

/** Says in plain words how a plan finds its rows, and whether an index serves. */
export function describePlan(plan: PlanNode): { index: 'serves' | 'partly' | 'not used'; message: string } {
  const lines: string[] = []
  let served = 0
  let unserved = 0
  visit(plan)
  return {
    index: unserved === 0 && served > 0 ? 'serves' : served > 0 ? 'partly' : 'not used',
    message: lines.join('\n'),
  }

  function visit(node: PlanNode): void {
    const table = node['Relation Name']
    const rows = rowsWords(node['Plan Rows'])
    const bitmap = node['Node Type'] === 'Bitmap Heap Scan' ? indexesBelow(node) : []
    switch (node['Node Type']) {
      case 'Seq Scan':
        unserved++
        lines.push(
          `Reads the whole of ${table}${node.Filter ? ` and keeps ${rows}` : `, ${rows}`}${node['Plan Rows'] <= SMALL && !node.Filter ? ': it is so small that no index would help' : node.Filter ? ': no index is used for this condition' : ''}.`,
        )
        break
      case 'Index Scan':
      case 'Index Only Scan':
        served++
        lines.push(
          node['Index Cond']
            ? `Finds ${rows} of ${table} by the index ${node['Index Name']}${node.Filter ? ', then looks at each for the rest of the condition' : ''}.`
            : `Goes through ${table} in the order of the index ${node['Index Name']}${node.Filter ? ', looking at each row for the condition' : ''}.`,
        )
        break
      case 'Bitmap Heap Scan':
        served++
        lines.push(`Finds ${rows} of ${table} by the index ${bitmap.join(' and ')}.`)
        break
      case 'Tid Range Scan':
      case 'Tid Scan':
        served++
        lines.push(`Finds ${rows} of ${table} by their place in it.`)
        break
      case 'Sort':
      case 'Incremental Sort':
        lines.push(
          `Sorts ${rows} by ${(node['Sort Key'] ?? []).join(', ')}${node['Node Type'] === 'Sort' ? ': no index gives this order' : ''}.`,
        )
        break
    }
    for (const child of node.Plans ?? []) visit(child)
  }
}

function indexesBelow(node: PlanNode): string[] {
  return (node.Plans ?? []).flatMap((child) =>
    child['Index Name'] === undefined ? indexesBelow(child) : [child['Index Name']],
  )
}

function rowsWords(rows: number): string {
  return `about ${rows} ${rows === 1 ? 'row' : 'rows'}`
}
