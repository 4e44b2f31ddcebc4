/** How rows are sent and received as text. */
export type RowForm = 'csv' | 'ndjson'

export const MEDIA_TYPES: Readonly<Record<RowForm, string>> = { csv: 'text/csv', ndjson: 'application/x-ndjson' }
