import { LedgermanProblem } from '@ledgerman/contract'
import { findPropertyOfColumn, type Mapping } from '../../mapping/mapping.js'
import { isSaidByFunction, type DatabaseError } from '../../sessions/database-error.js'
import { isStillReferenced, keyColumns } from '../../sessions/database-words.js'
import type { ErrorContext } from './error-context.js'
import { hintOf, safeMessage } from './safe-message.js'

export const CONSTRAINT_KINDS = [
  'not-null',
  'missing-parent',
  'still-referenced',
  'duplicate',
  'check',
  'exclusion',
  'domain',
] as const
export type ConstraintKind = (typeof CONSTRAINT_KINDS)[number]

interface Explanation {
  kind: ConstraintKind
  detail: string
  columns: string[]
  message?: string
}

/**
 * Explains a broken constraint (SQLSTATE class 23) in the mapping's words. The server's own DETAIL repeats values, so it is
 * not passed on; which columns are concerned is looked up in the catalogue by the constraint's name.
 */
export function explainConstraint(error: DatabaseError, context: ErrorContext): LedgermanProblem {
  const { mapping } = context
  const own = mapping && isOf(error, mapping) ? mapping : undefined
  const { kind, detail, columns, message } =
    isSaidByFunction(error) && error.constraint !== undefined
      ? said(error, context)
      : own || !mapping || isReference(error, mapping)
        ? explain(error, context)
        : elsewhere(error, context)
  return new LedgermanProblem(
    'constraint-broken',
    detail,
    {
      kind,
      constraint: error.constraint ?? null,
      table: error.table === undefined ? (mapping?.table.path ?? null) : `${error.schema}.${error.table}`,
      properties: columns.map((column) => propertyName(own, column)),
      message: message ?? safeMessage(error, context),
    },
    { cause: error },
  )
}

/** Whether an error is about the mapping's own table: of a view or a partition only what lies under it is named. */
function isOf({ schema, table }: DatabaseError, mapping: Mapping): boolean {
  const own = mapping.table
  if (table === undefined || own.kind === 'view' || own.kind === 'partitioned table') return true
  return table === own.name && (schema === undefined || schema === own.schema)
}

/** Whether the constraint is a foreign key from or to the mapping's table; the server names the table that refers. */
function isReference({ code, constraint }: DatabaseError, { table }: Mapping): boolean {
  return code === '23503' && [...table.references, ...table.referencedBy].some(({ name }) => name === constraint)
}

const KIND_BY_STATE: Record<string, ConstraintKind> = {
  '23502': 'not-null',
  '23503': 'missing-parent',
  '23505': 'duplicate',
  '23514': 'check',
  '23P01': 'exclusion',
}

/** A refusal of a function, which has words of its own for the constraint that it stands for. */
function said(error: DatabaseError, context: ErrorContext): Explanation {
  const { mapping } = context
  const { checks = [], uniques = [], references = [] } = mapping?.table ?? {}
  return {
    kind: KIND_BY_STATE[error.code] ?? 'check',
    columns: [...checks, ...uniques, ...references].find(({ name }) => name === error.constraint)?.columns ?? [],
    detail: `The database refuses the ${mapping?.name ?? 'record'}: ${safeMessage(error, context).replace(/\.$/, '')} (${error.constraint})${hintOf(error, context)}.`,
  }
}

/** A constraint of another table, which a trigger or a cascade ran into. */
function elsewhere(error: DatabaseError, context: ErrorContext): Explanation {
  const place = `${error.schema}.${error.table}`
  const name = error.constraint === undefined ? '' : ` (${error.constraint})`
  return {
    kind: KIND_BY_STATE[error.code] ?? 'check',
    columns: [],
    detail: `Changing this ${context.mapping?.name ?? 'record'} has the database write to ${place}, and a constraint there refuses it${name}: ${safeMessage(error, context)}.`,
  }
}

/** The only foreign key from the table that the server names: of one to a partitioned table it names the part for the partition, which has a name of its own. */
function keyFrom(error: DatabaseError, table: Mapping['table'] | undefined) {
  if (table?.kind !== 'partitioned table' || !isStillReferenced(error)) return undefined
  const [key, ...others] = table.referencedBy.filter((each) => each.table === `${error.schema}.${error.table}`)
  return others.length === 0 ? key : undefined
}

/** The partition whose own check it is, in words; empty for a check of the whole table. */
function partOf({ schema, table: name }: DatabaseError, table: Mapping['table'] | undefined): string {
  return table?.kind === 'partitioned table' && name !== undefined ? ` of its partition ${schema}.${name}` : ''
}

function explain(error: DatabaseError, context: ErrorContext): Explanation {
  const { mapping, kind: step } = context
  const record = mapping?.name ?? 'record'
  const named = (columns: string[]) => columns.map((column) => propertyName(mapping, column)).join(', ')
  const table = mapping?.table
  // A function can raise these states by itself, without a constraint.
  const constraint = error.constraint === undefined ? '' : ` (${error.constraint})`
  switch (error.code) {
    case '23502': {
      if (error.dataType !== undefined) {
        const columns = ofDomain(error, context)
        return {
          kind: 'not-null',
          columns,
          detail: `${named(columns) || 'A value'} cannot be null: the domain ${error.dataType} does not allow it.`,
        }
      }
      const columns = error.column === undefined ? [] : [error.column]
      return {
        kind: 'not-null',
        columns,
        detail: `${mapping?.name ?? error.table ?? 'record'}.${named(columns) || '…'} cannot be null.`,
      }
    }
    case '23505': {
      const columns = table?.uniques.find((unique) => unique.name === error.constraint)?.columns ?? keyColumns(error)
      return {
        kind: 'duplicate',
        columns,
        detail: `Another ${record} already has this ${named(columns) || 'value'}${constraint}. Choose another value.`,
      }
    }
    case '23503': {
      const outgoing = table?.references.find((key) => key.name === error.constraint)
      const incoming = table?.referencedBy.find((key) => key.name === error.constraint) ?? keyFrom(error, table)
      // Of a key that leads back to the same table the server's words tell which end is meant; nothing refers to what is only added.
      const isMissing = outgoing && (!incoming || step === 'add' || !isStillReferenced(error))
      if (!outgoing && !incoming && !isStillReferenced(error)) {
        const columns = keyColumns(error)
        return {
          kind: 'missing-parent',
          columns,
          detail: `A row of ${error.table ?? 'a table'} would refer to one that is not there, by its ${columns.join(', ') || 'values'}${constraint}. Add that one first.`,
        }
      }
      if (isMissing && step !== 'remove') {
        return {
          kind: 'missing-parent',
          columns: outgoing.columns,
          detail: `There is no row in ${outgoing.table} whose ${outgoing.otherColumns.join(', ')} is the ${named(outgoing.columns)} given${constraint}. Add it first, or give one that exists.`,
        }
      }
      return {
        kind: 'still-referenced',
        columns: incoming?.columns ?? [],
        detail: `Rows of ${incoming?.table ?? error.table ?? 'another table'} still refer to this ${record}${constraint}. Change or remove those first.`,
      }
    }
    case '23514': {
      if (error.dataType !== undefined) {
        const columns = ofDomain(error, context)
        return {
          kind: 'domain',
          columns,
          detail: `${columns.length > 1 ? `A value of ${named(columns)}` : named(columns) || 'A value'} is not allowed by the domain ${error.dataType}${constraint}.`,
        }
      }
      if (error.constraint === undefined)
        return { kind: 'check', columns: [], detail: `The database refuses the ${record}: ${error.message}.` }
      const check = table?.checks.find((each) => each.name === error.constraint)
      const place = check ? '' : partOf(error, table)
      const rule = check && inPropertyNames(check.definition.replace(/^CHECK \((.*)\)$/s, '$1'), check.columns, mapping)
      return {
        kind: 'check',
        columns: check?.columns ?? [],
        detail: `The ${record} would break the check ${error.constraint}${place}${rule ? `: ${rule}` : ''}.`,
        ...(rule ? { message: rule } : {}),
      }
    }
    case '23P01': {
      const columns = table?.checks.find(({ name }) => name === error.constraint)?.columns ?? []
      const where = columns.length > 0 ? ` in ${named(columns)}` : ''
      return {
        kind: 'exclusion',
        columns,
        detail: `The ${record} would conflict with another one${where}${constraint}. Choose other values.`,
      }
    }
    default:
      return { kind: 'check', columns: [], detail: `The database refuses the ${record}: ${error.message}.` }
  }
}

/** Columns that have values of the domain; of several only those that were set. */
function ofDomain({ schema, dataType }: DatabaseError, { mapping, slots = [] }: ErrorContext): string[] {
  const columns = (mapping?.table.columns ?? []).filter(({ type }) => type.domains.includes(`${schema}.${dataType}`))
  const set = columns.filter(({ name }) =>
    slots.some(
      ({ source }) =>
        source.from === 'set' && source.property === (mapping && findPropertyOfColumn(mapping, name)?.name),
    ),
  )
  return (set.length > 0 ? set : columns).map(({ name }) => name)
}

/** A check's condition with the mapping's names in place of the columns'. */
function inPropertyNames(condition: string, columns: string[], mapping: Mapping | undefined): string {
  return condition.replace(/"(?:[^"]|"")+"|'(?:[^']|'')*'|[\p{L}_][\p{L}\p{N}_$]*/gu, (word) => {
    const name = word.startsWith('"') ? word.slice(1, -1).replaceAll('""', '"') : word
    return columns.includes(name) ? propertyName(mapping, name) : word
  })
}

function propertyName(mapping: Mapping | undefined, column: string): string {
  return (mapping && findPropertyOfColumn(mapping, column)?.name) ?? column
}
