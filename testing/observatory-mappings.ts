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

/** The demo's transaction files, as they are published. */
export const observatoryTransactions = readdirSync(join(FOLDER, '../transactions'))
  .filter((file) => !file.endsWith('.drill.yaml'))
  .map((file) => ({ file, source: readFileSync(join(FOLDER, '../transactions', file), 'utf8') }))

/** One of the demo's definitions. */
export function observatoryDefinition(name: string): MappingDefinition {
  return mappingDefinition.parse(parse(observatorySources.get(name) ?? ''))
}
