import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'
import { parse } from 'yaml'
import { mappingDefinition, type MappingDefinition } from '@ledgerman/contract'

const FOLDER = join(import.meta.dirname, '../demo/observatory/mappings')

/** The demo's mapping files: source by name. */
export const observatorySources = new Map(
  readdirSync(FOLDER).map((file) => {
    const source = readFileSync(join(FOLDER, file), 'utf8')
    return [(parse(source) as { mapping: string }).mapping, source]
  }),
)

/** One of the demo's definitions. */
export function observatoryDefinition(name: string): MappingDefinition {
  return mappingDefinition.parse(parse(observatorySources.get(name) ?? ''))
}
