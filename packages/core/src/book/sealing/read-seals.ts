import type { Seal } from '@ledgerman/contract'
import type { Rows } from '../../sessions/queryable.js'

/** A seal as the book keeps it, with what it takes to go on from it. */
export interface KeptSeal {
  seal: Seal
  peaks: Buffer[]
  /** When the oldest transaction that was open then had begun. */
  openSince: string
}

export const SEAL_COLUMNS_SQL = `s.entries, pg_catalog.encode(s.root, 'hex'), pg_catalog.to_char(s.at at time zone 'UTC', 'YYYY-MM-DD"T"HH24:MI:SS.US"Z"'), s.key, s.signature,
  pg_catalog.array_to_string(array(select pg_catalog.encode(p.hash, 'hex') from pg_catalog.unnest(s.peaks) with ordinality as p(hash, no) order by p.no), ','), s.open_since::text`

export const LAST_SEAL_SQL = `select ${SEAL_COLUMNS_SQL} from ledgerman.seal s order by s.entries desc limit 1`

export function toKeptSeal(row: Rows['rows'][number]): KeptSeal {
  const [entries, root, at, key, signature, peaks, openSince] = row.map((value) => value ?? '')
  return {
    seal: { entries: Number(entries), root: root ?? '', at: at ?? '', key: key ?? '', signature: signature ?? '' },
    peaks: (peaks ?? '')
      .split(',')
      .filter(Boolean)
      .map((hash) => Buffer.from(hash, 'hex')),
    openSince: openSince ?? '',
  }
}
