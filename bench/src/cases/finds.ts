import type pg from 'pg'
import { findRecords, type Mapping, type Target } from '@ledgerman/core'
import { compare, type Ratio } from '../compare.js'

const PAGE = 50
const noLinks = () => Promise.reject(new Error('no links here'))

/** A page of 50 from a million rows: the first, and one at depth 10,000. */
export async function comparePages(target: Target, mapping: Mapping, pool: pg.Pool): Promise<Ratio[]> {
  const order = 'taken, id'
  const depth = PAGE * 10_000
  const { rows } = await pool.query<{ taken: number; id: number }>(
    `select taken, id from sighting order by taken, id offset ${depth - 1} limit 1`,
  )
  const place = [String(rows[0]?.taken), String(rows[0]?.id)]
  const after = Buffer.from(JSON.stringify({ o: order, v: place })).toString('base64url')
  return compare(
    [
      { name: 'page 1', once: () => findRecords(target, mapping, { limit: PAGE, order }, noLinks) },
      { name: 'page 10,000', once: () => findRecords(target, mapping, { limit: PAGE, order, after }, noLinks) },
    ],
    { rounds: 8 },
  )
}

/** A find by expression, beside the same query written by hand. */
export function compareFinds(target: Target, mapping: Mapping, pool: pg.Pool): Promise<Ratio[]> {
  const band = () => 1 + Math.floor(Math.random() * 900)
  return compare(
    [
      {
        name: 'hand-written',
        once: () => {
          const low = band()
          return pool.query(
            'select id, taken, band, note from sighting where taken between $1 and $2 and band <> $3 order by id limit 51',
            [low, low + 1, 'x'],
          )
        },
      },
      {
        name: 'Ledgerman core, values bound',
        once: () => {
          const where = 'taken between :low and :low + 1 and band <> :x'
          return findRecords(target, mapping, { where, bind: { low: band(), x: 'x' }, limit: PAGE }, noLinks)
        },
      },
      {
        name: 'Ledgerman core, values in the text, new each time',
        once: () => {
          const low = band()
          const where = `taken between ${low} and ${low + 1} and band <> :x`
          return findRecords(target, mapping, { where, bind: { x: 'x' }, limit: PAGE }, noLinks)
        },
      },
    ],
    { rounds: 8 },
  )
}
