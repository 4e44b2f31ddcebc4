import { ref, watch, type Ref } from 'vue'
import type { MappingInfo, PropertyInfo } from '@ledgerman/contract'
import { client } from '../client.js'

/** A property that a list can show or a filter can name: an own one, or one over links. */
export interface NamedProperty {
  path: string
  property: PropertyInfo
}

/** How many links deep names are offered; any depth can be typed. */
const DEPTH = 2

/** The properties of a mapping and of those its to-one links lead to, and the names of its to-many links. */
export function useLinkedNames(target: Ref<string>, mapping: Ref<MappingInfo | null>) {
  const named = ref<NamedProperty[]>([])
  const manyLinks = ref<string[]>([])
  const known = new Map<string, Promise<MappingInfo | null>>()

  watch(
    mapping,
    async (info) => {
      named.value = info ? own(info, '') : []
      manyLinks.value = info ? linksOf(info, 'many').map(([name]) => name) : []
      if (info) named.value = [...own(info, ''), ...(await linked(info, '', 1))]
    },
    { immediate: true },
  )
  return { named, manyLinks }

  async function linked(info: MappingInfo, prefix: string, depth: number): Promise<NamedProperty[]> {
    if (depth > DEPTH) return []
    const found = await Promise.all(
      linksOf(info, 'on').map(async ([name, other]) => {
        const there = await load(other)
        const path = `${prefix}${name}.`
        return there ? [...own(there, path), ...(await linked(there, path, depth + 1))] : []
      }),
    )
    return found.flat()
  }

  function load(name: string): Promise<MappingInfo | null> {
    const key = `${target.value} ${name}`
    let loading = known.get(key)
    if (!loading) {
      loading = client
        .target(target.value)
        .mapping(name)
        .catch(() => null)
      known.set(key, loading)
    }
    return loading
  }
}

function own(info: MappingInfo, prefix: string): NamedProperty[] {
  return (info.properties ?? []).map((property) => ({ path: prefix + property.name, property }))
}

function linksOf(info: MappingInfo, side: 'on' | 'many'): [string, string][] {
  return Object.entries(info.definition.links ?? {})
    .filter(([, link]) => side in link)
    .map(([name, link]) => [name, link.mapping])
}
