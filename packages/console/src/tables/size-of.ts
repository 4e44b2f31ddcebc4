import type { TableSummary } from '@ledgerman/contract'

const whole = new Intl.NumberFormat('en', { maximumFractionDigits: 0 })
const UNITS = ['B', 'kB', 'MB', 'GB', 'TB']

/** How many rows a table has and how large they are, as PostgreSQL last counted them. */
export function sizeOf({ kind, approximateRows, approximateBytes }: TableSummary): string {
  if (kind === 'view') return 'view'
  if (approximateRows === null) return 'rows not counted yet'
  const rows = `${approximateRows < 1000 ? '' : 'about '}${whole.format(approximateRows)} ${approximateRows === 1 ? 'row' : 'rows'}`
  return approximateBytes === null ? rows : `${rows} · ${bytesText(approximateBytes)}`
}

function bytesText(bytes: number): string {
  const unit = bytes < 1 ? 0 : Math.min(Math.floor(Math.log(bytes) / Math.log(1024)), UNITS.length - 1)
  const value = bytes / 1024 ** unit
  return `${value < 10 && unit > 0 ? value.toFixed(1) : whole.format(value)} ${UNITS[unit]}`
}
