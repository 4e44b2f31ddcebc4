import dagre from '@dagrejs/dagre'

export interface Box {
  id: string
  width: number
  height: number
}

/** Places boxes in layers, so that arrows lead one way. Gives each box's upper left corner. */
export function arrange(
  boxes: readonly Box[],
  arrows: readonly { source: string; target: string }[],
  direction: 'LR' | 'TB',
): Map<string, { x: number; y: number }> {
  const graph = new dagre.graphlib.Graph()
  graph.setGraph({ rankdir: direction, nodesep: 24, ranksep: 70 })
  graph.setDefaultEdgeLabel(() => ({}))
  for (const { id, width, height } of boxes) graph.setNode(id, { width, height })
  for (const { source, target } of arrows) graph.setEdge(source, target)
  dagre.layout(graph)
  return new Map(
    boxes.map(({ id, width, height }) => {
      const { x, y } = graph.node(id)
      return [id, { x: x - width / 2, y: y - height / 2 }]
    }),
  )
}
