import type { StepKind } from '@ledgerman/contract'
import type { DatabaseError } from '../../sessions/database-error.js'
import { isDeniedFor } from '../../sessions/database-words.js'
import type { ErrorContext } from './error-context.js'

/** What PostgreSQL asks of the role that runs such a step ("Privileges", and the notes of each statement). */
const NEEDED: Partial<Record<StepKind, string>> = {
  add: 'select and insert',
  change: 'select and update',
  replace: 'select and update',
  remove: 'select and delete',
}
const TO_READ = 'select (and update where rows are locked)'

/**
 * What to grant to a role that may not do what a step does. PostgreSQL names what it may not use, without its schema and without the privilege: of the
 * mapping's own table and schema it is known, of all else (a function, a sequence, what a trigger writes to) only its words are.
 */
export function missingGrant(error: DatabaseError, { mapping, kind }: ErrorContext): string {
  const { schema, name, sql } = mapping?.table ?? {}
  const isFor = (each: string | undefined) => each !== undefined && schema !== name && isDeniedFor(error, each)
  if (isFor(schema))
    return `It needs usage on the schema ${schema}: let its owner grant that to the role, or use another target.`
  if (isFor(name))
    return `It needs ${(kind && NEEDED[kind]) ?? TO_READ} on ${sql}: let its owner grant that to the role, or use another target.`
  return 'Grant it the privilege, or use another target.'
}
