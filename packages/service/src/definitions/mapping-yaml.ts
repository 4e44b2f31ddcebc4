import { Document, isMap, isScalar, isSeq } from 'yaml'
import type { MappingDefinition } from '@ledgerman/contract'

/** A mapping as a person would write it: one property, link or guard a line. */
export function toYaml(definition: MappingDefinition): string {
  const document = new Document(definition, { version: '1.2' })
  if (!isMap(document.contents)) return String(document)
  for (const { key, value } of document.contents.items) {
    const name = isScalar(key) ? key.value : ''
    if (isSeq(value) || (isMap(value) && name === 'guard')) value.flow = true
    if (isMap(value) && (name === 'properties' || name === 'links')) {
      for (const pair of value.items) if (isMap(pair.value)) pair.value.flow = true
    }
  }
  return document.toString({ lineWidth: 0 })
}
