import dagre from '@dagrejs/dagre'

export interface Point {
  x: number
  y: number
}

export interface Box {
  id: string
  width: number
  height: number
}

export interface Arrow {
  id: string
  source: string
  target: string
  label: string
}

/** Where an arrow's line goes so that it meets no box, and where its label stands. */
export interface Line {
  points: Point[]
  labelAt: Point
}

export interface Layers {
  /** Each box's upper left corner. */
  places: Map<string, Point>
  lines: Map<string, Line>
  width: number
  height: number
}

const GAP = 28
const LABEL = { characterWidth: 6.2, height: 16 }
/** How near to a box's corner a line may begin or end. */
const CORNER = 16
/** How far an arrow from a box to itself leads out of its side. */
const REACH = 24

/** Places boxes in layers, so that arrows lead one way, and routes the arrows' lines beside the boxes. */
export function arrange(boxes: readonly Box[], arrows: readonly Arrow[], direction: 'LR' | 'TB'): Layers {
  if (boxes.length === 0) return { places: new Map(), lines: new Map(), width: 0, height: 0 }
  const graph = new dagre.graphlib.Graph({ multigraph: true })
  graph.setGraph({ rankdir: direction, nodesep: GAP, ranksep: 50, edgesep: 16 })
  // The layers know nothing of an arrow from a box to itself: the box keeps room for it.
  const rooms = new Map<string, number>()
  for (const { source, label } of arrows.filter(isLoop)) rooms.set(source, REACH + label.length * LABEL.characterWidth)
  for (const { id, width, height } of boxes) graph.setNode(id, { width: width + (rooms.get(id) ?? 0), height })
  for (const { source, target, label, id } of arrows.filter((arrow) => !isLoop(arrow)))
    graph.setEdge(
      source,
      target,
      { width: label.length * LABEL.characterWidth, height: LABEL.height, labelpos: 'c' },
      id,
    )
  dagre.layout(graph)
  const placed = new Map(
    boxes.map(({ id, width, height }) => {
      const { x, y } = graph.node(id)
      return [id, { x: x - (rooms.get(id) ?? 0) / 2, y, width, height }]
    }),
  )
  const places = new Map(
    [...placed].map(([id, { x, y, width, height }]) => [id, { x: x - width / 2, y: y - height / 2 }]),
  )
  const boxOf = (id: string) => placed.get(id) as Placed
  const lines = new Map(
    arrows.map((arrow): [string, Line] => {
      const { id, source, target } = arrow
      if (isLoop(arrow)) return [id, loopAt(boxOf(source), arrow.label)]
      const edge = graph.edge(source, target, id)
      const points = [...edge.points]
      // From side to facing side, so that the ends too pass beside every box of either layer.
      points[0] = onSide(boxOf(source), points[0], points[1], direction)
      points[points.length - 1] = onSide(boxOf(target), points.at(-1), points.at(-2), direction)
      return [id, { points, labelAt: { x: edge.x ?? 0, y: edge.y ?? 0 } }]
    }),
  )
  const { width = 0, height = 0 } = graph.graph()
  return { places, lines, width, height }
}

type Placed = Point & { width: number; height: number }

const isLoop = ({ source, target }: Arrow) => source === target

/** A line out of the right side of a box and back, its label beside it. */
function loopAt({ x, y, width, height }: Placed, label: string): Line {
  const [right, rise] = [x + width / 2, height / 4]
  const out = right + REACH
  const points = [
    { x: right, y: y - rise },
    { x: out, y: y - rise },
    { x: out, y: y + rise },
    { x: right, y: y + rise },
  ]
  return { points, labelAt: { x: out + (label.length * LABEL.characterWidth) / 2, y } }
}

/** The place nearest to a line's end on the side of a box that faces the line. */
function onSide(box: Placed, end: Point = box, before: Point = end, direction: 'LR' | 'TB'): Point {
  const along = (value: number, middle: number, size: number) => {
    const reach = size / 2 - CORNER
    return Math.min(Math.max(value, middle - reach), middle + reach)
  }
  const facing = (value: number, middle: number, size: number) => middle + (Math.sign(value - middle) * size) / 2
  return direction === 'TB'
    ? { x: along(end.x, box.x, box.width), y: facing(before.y, box.y, box.height) }
    : { x: facing(before.x, box.x, box.width), y: along(end.y, box.y, box.height) }
}

/** A line through points, its corners rounded. */
export function pathThrough(points: readonly Point[]): string {
  const [first, ...rest] = points
  if (!first) return ''
  const parts = [`M ${first.x} ${first.y}`]
  rest.forEach((point, at) => {
    const next = rest[at + 1]
    // A curve to the middle of the next stretch, with the corner as its pull.
    if (next) parts.push(`Q ${point.x} ${point.y} ${(point.x + next.x) / 2} ${(point.y + next.y) / 2}`)
    else parts.push(`L ${point.x} ${point.y}`)
  })
  return parts.join(' ')
}
