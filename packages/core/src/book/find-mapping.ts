import type { Mapping } from '../mapping/mapping.js'

/** The mapping of that name and revision as it fits the table now; undefined where it does not. */
export type FindMapping = (name: string, revision: number) => Promise<Mapping | undefined>
