import type { TestDatabase } from '../../../testing/databases.js'

/** The rows of the observatory that code changes, without the moments. */
export const rowsOf = (database: TestDatabase) =>
  database.sql(`select 'p' as t, to_jsonb(p) - 'updated_at' as r from programme p union all select 't', to_jsonb(t) from telescope t
    union all select 'h', to_jsonb(h) - 'made_at' from hours_transfer h union all select 'c', to_jsonb(c) from calibration c union all select 'b', to_jsonb(b) from block b order by 1, 2`)
