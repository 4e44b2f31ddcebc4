import { toTablePath, type TableSummary } from '@ledgerman/contract'
import { arrange, type Arrow, type Line, type Point } from '../layout/arrange.js'

export const BOX = { width: 200, height: 78 }
const GAP = 28
const SCHEMA_HEAD = 30

export interface TablesLayout {
  places: Map<string, Point>
  /** A frame around the tables of each schema, where there are several. */
  frames: { schema: string; x: number; y: number; width: number; height: number }[]
  /** Foreign keys from one table to another, as one arrow: two labels on one line could not be read. */
  arrows: Arrow[]
  lines: Map<string, Line>
}

export const pathOf = ({ schema, name }: TableSummary) => toTablePath(schema, name)

/** Places tables in layers, each schema by itself; tables that no key leads to or from stand in a grid below. */
export function arrangeTables(tables: readonly TableSummary[]): TablesLayout {
  const arrows = arrowsOf(tables)
  const layout: TablesLayout = { places: new Map(), frames: [], arrows, lines: new Map() }
  const schemas = [...new Set(tables.map(({ schema }) => schema))]
  let left = 0
  for (const schema of schemas) {
    const own = tables.filter((table) => table.schema === schema).map(pathOf)
    const inner = arrows.filter(({ source, target }) => own.includes(source) && own.includes(target))
    const size = placeSchema(own, inner, { x: left, y: schemas.length > 1 ? SCHEMA_HEAD : 0 }, layout)
    if (schemas.length > 1)
      layout.frames.push({
        schema,
        x: left - GAP / 2,
        y: -GAP / 2,
        width: size.width + GAP,
        height: size.height + SCHEMA_HEAD + GAP,
      })
    left += size.width + 3 * GAP
  }
  for (const { id, source, target } of arrows) {
    const [from, to] = [layout.places.get(source), layout.places.get(target)]
    if (from && to && !layout.lines.has(id)) layout.lines.set(id, lineAcross(from, to))
  }
  return layout
}

/** A line from a box to one in another schema, which stands beside it: it goes up or down in front of that schema. */
function lineAcross(from: Point, to: Point): Line {
  const isRight = to.x > from.x
  // Below an arrow from the box to itself.
  const start = { x: from.x + (isRight ? BOX.width : 0), y: from.y + BOX.height * 0.9 }
  const end = { x: to.x + (isRight ? 0 : BOX.width), y: to.y + BOX.height / 2 }
  const turn = end.x + (isRight ? -1.5 : 1.5) * GAP
  const points = [start, { x: turn, y: start.y }, { x: turn, y: end.y }, end]
  return { points, labelAt: { x: turn, y: (start.y + end.y) / 2 } }
}

/** The tables that a key leads to from this one, or from which one leads to it, and the table itself. */
export function neighboursOf(tables: readonly TableSummary[], path: string): TableSummary[] {
  const near = new Set([path])
  for (const { source, target } of arrowsOf(tables)) {
    if (source === path) near.add(target)
    if (target === path) near.add(source)
  }
  return tables.filter((table) => near.has(pathOf(table)))
}

function arrowsOf(tables: readonly TableSummary[]): Arrow[] {
  const known = new Set(tables.map(pathOf))
  const arrows = new Map<string, Arrow>()
  for (const table of tables)
    for (const { columns, table: target } of table.references) {
      if (!known.has(target)) continue
      const source = pathOf(table)
      const id = `${source} ${target}`
      const arrow = arrows.get(id) ?? { id, source, target, label: '' }
      arrow.label = [arrow.label, columns.join(', ')].filter(Boolean).join(' · ')
      arrows.set(id, arrow)
    }
  return [...arrows.values()]
}

function placeSchema(
  paths: readonly string[],
  arrows: readonly Arrow[],
  origin: Point,
  { places, lines }: TablesLayout,
): { width: number; height: number } {
  const joined = new Set(arrows.flatMap(({ source, target }) => [source, target]))
  const layers = arrange(
    paths.filter((path) => joined.has(path)).map((id) => ({ id, ...BOX })),
    arrows,
    'TB',
  )
  const { width, height } = layers
  const moved = ({ x, y }: Point) => ({ x: origin.x + x, y: origin.y + y })
  for (const [path, place] of layers.places) places.set(path, moved(place))
  for (const [id, { points, labelAt }] of layers.lines)
    lines.set(id, { points: points.map(moved), labelAt: moved(labelAt) })
  const alone = paths.filter((path) => !joined.has(path))
  const wide = Math.max(Math.floor((width + GAP) / (BOX.width + GAP)), Math.ceil(Math.sqrt(alone.length)), 1)
  const top = joined.size > 0 ? height + 2 * GAP : 0
  alone.forEach((path, at) =>
    places.set(path, {
      x: origin.x + (at % wide) * (BOX.width + GAP),
      y: origin.y + top + Math.floor(at / wide) * (BOX.height + GAP),
    }),
  )
  const columns = Math.min(wide, alone.length)
  return {
    width: Math.max(width, columns * (BOX.width + GAP) - GAP),
    height: alone.length === 0 ? height : top + Math.ceil(alone.length / wide) * (BOX.height + GAP) - GAP,
  }
}
