import type { MappingInfo, PropertyInfo } from '@ledgerman/contract'
import { NUMBER_KINDS } from './number-kinds.js'

/** A filter that could be asked of this mapping, to show how one is written: a comparison of a number, and something of another kind. */
export function exampleFilter({ properties, key }: MappingInfo): string {
  const all = properties ?? []
  const own = all.filter(({ sensitive, name }) => !sensitive && !key.includes(name) && !/(^id|Id)$/.test(name))
  const number = own.find(({ kind, writable }) => NUMBER_KINDS.includes(kind) && writable)
  const other = own.find(({ kind }) => ['boolean', 'enum', 'text'].includes(kind))
  const terms = [number && `${number.name} < 5`, other && termOf(other)].filter((term) => term !== undefined)
  return terms.join(' and ') || `${all[0]?.name ?? 'id'} is not null`
}

function termOf({ name, kind, choices, nullable }: PropertyInfo): string {
  if (kind === 'boolean') return name
  if (kind === 'enum') return `${name} = '${choices?.[0] ?? ''}'`
  return nullable ? `${name} is null` : `${name} like 'A%'`
}
