import type { Receipt } from '@ledgerman/contract'

/** What triggers, rules and foreign keys wrote in other tables, in words: `obs.member: 2 removed; obs.log: 1 added`. Empty where nothing was, or nobody counted. */
export function writtenWithItText({ writtenWithIt = [] }: Pick<Receipt, 'writtenWithIt'>): string {
  return writtenWithIt
    .map(({ table, added, changed, removed }) => {
      const counts = Object.entries({ added, changed, removed }).filter(([, count]) => count > 0)
      return `${table}: ${counts.map(([what, count]) => `${count} ${what}`).join(', ')}`
    })
    .join('; ')
}
