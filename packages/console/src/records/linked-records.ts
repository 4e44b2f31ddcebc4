import { toRecordAddress, type MappingInfo, type RecordValues } from '@ledgerman/contract'
import type { TargetClient } from '@ledgerman/client'
import { propertyToText } from '@ledgerman/client'

/** A record that another one leads to: what it is called, and where it is. */
export interface LinkedRecord {
  mapping: string
  label: string
  address: string
}

/** A to-many link: the first of its records, and the filter that finds all. */
export interface RelatedRecords {
  link: string
  mapping: string
  records: LinkedRecord[]
  count: number
  where: string
}

/** How many related records are listed at once. */
const SHOWN = 5

/** What a record is called by people: its key, and its first two texts. */
export function labelOf({ key, properties }: MappingInfo, record: RecordValues): string {
  const texts = (properties ?? [])
    .filter(({ kind, sensitive, key: isKey, name }) => kind === 'text' && !sensitive && !isKey && !key.includes(name))
    .slice(0, 2)
    .flatMap(({ name }) => (typeof record[name] === 'string' && record[name] !== '' ? [record[name]] : []))
  return [key.map((name) => String(record[name])).join(', '), ...texts].join(' · ')
}

/** The records that the to-one links of a record lead to, by the property that the link begins at. */
export async function linkedRecords(
  target: TargetClient,
  { definition }: MappingInfo,
  record: RecordValues,
): Promise<Record<string, LinkedRecord>> {
  const found = await Promise.all(
    Object.values(definition.links ?? {}).map(async (link) => {
      if (!('on' in link)) return []
      const pairs = Object.entries(link.on)
      const [own = ''] = pairs[0] ?? []
      if (pairs.some(([from]) => record[from] === null || record[from] === undefined)) return []
      // Who may not read it, or has no mapping of it, sees the value as before.
      const [other] = await find(target, link.mapping, pairs, record, 1).catch(() => [])
      return other ? [[own, other] as const] : []
    }),
  )
  return Object.fromEntries(found.flat())
}

/** The records that lead to a record, by each of its to-many links. */
export async function relatedRecords(
  target: TargetClient,
  { definition }: MappingInfo,
  record: RecordValues,
): Promise<RelatedRecords[]> {
  const found = await Promise.all(
    Object.entries(definition.links ?? {}).map(async ([name, link]) => {
      if (!('many' in link)) return []
      const pairs = Object.entries(link.many)
      if (pairs.some(([from]) => record[from] === null || record[from] === undefined)) return []
      try {
        const where = conditionOf(pairs, record)
        const found = await find(target, link.mapping, pairs, record, SHOWN + 1)
        const records = found.slice(0, SHOWN)
        // Only where there are more than are shown is it worth counting them all.
        const count =
          found.length > SHOWN
            ? ((await target.find(link.mapping, { where, limit: 1, count: 'all' })).count ?? found.length)
            : found.length
        return [{ link: name, mapping: link.mapping, records, count, where }]
      } catch {
        return []
      }
    }),
  )
  return found.flat()
}

async function find(
  target: TargetClient,
  mapping: string,
  pairs: readonly (readonly [string, string])[],
  record: RecordValues,
  limit: number,
): Promise<LinkedRecord[]> {
  const [info, { found }] = await Promise.all([
    target.mapping(mapping),
    target.find(mapping, { where: conditionOf(pairs, record), limit }),
  ])
  return found.map((each) => ({
    mapping,
    label: labelOf(info, each),
    address: toRecordAddress(info.key.map((name) => propertyToText(each[name]))),
  }))
}

/** As a person would write it: it stands in the address of the list, too. */
function conditionOf(pairs: readonly (readonly [string, string])[], record: RecordValues): string {
  return pairs.map(([from, to]) => `${to} = ${literal(record[from])}`).join(' and ')
}

function literal(value: unknown): string {
  if (typeof value === 'number' || typeof value === 'boolean') return String(value)
  return `'${propertyToText(value).replaceAll("'", "''")}'`
}
