import { computed } from 'vue'
import { useRoute, useRouter, type LocationQuery } from 'vue-router'

/** What a list shows, as it stands in the page's address: so a view can be shared, and returned to. */
export interface ListView {
  where: string | undefined
  /** A find that the mapping names, in place of a filter, and the texts of its parameters. */
  find: string | undefined
  params: Record<string, string>
  order: string | undefined
  properties: string | undefined
  after: string | undefined
}

export type Direction = 'asc' | 'desc'

export function useListView() {
  const route = useRoute()
  const router = useRouter()
  const view = computed(() => viewOf(route.query))
  const paths = computed(() => view.value.properties?.split(','))
  /** The first term of the order: the column that shows an arrow. */
  const sorted = computed(() => {
    const [path, direction = 'asc'] = (view.value.order ?? '').split(',')[0]?.trim().split(/\s+/) ?? []
    return path ? { path, direction: direction as Direction } : null
  })

  /** Goes to another view of the same mapping; whatever changes, its first page comes first. */
  function show(change: Partial<ListView>): void {
    void router.push({ query: queryOf({ ...view.value, after: undefined, ...change }) })
  }

  /** Ascending, then descending, then as it was. */
  function sortBy(path: string): void {
    const { value } = sorted
    if (value?.path !== path) return show({ order: path })
    show({ order: value.direction === 'asc' ? `${path} desc` : undefined })
  }

  return { view, paths, sorted, show, sortBy }
}

const PARAM = 'params.'

export function viewOf(query: LocationQuery): ListView {
  const text = (name: string) => (typeof query[name] === 'string' && query[name] !== '' ? query[name] : undefined)
  const params = Object.entries(query).flatMap(([name, value]) =>
    name.startsWith(PARAM) && typeof value === 'string' ? [[name.slice(PARAM.length), value] as const] : [],
  )
  return {
    where: text('where'),
    find: text('find'),
    params: Object.fromEntries(params),
    order: text('order'),
    properties: text('properties'),
    after: text('after'),
  }
}

/** The view as it stands in an address. */
export function queryOf({ params = {}, ...view }: Partial<ListView>): Record<string, string> {
  const named = Object.entries(params).map(([name, value]) => [PARAM + name, value] as const)
  const all: (readonly [string, string | undefined])[] = [...Object.entries(view), ...named]
  return Object.fromEntries(all.flatMap(([name, value]) => (value ? [[name, value] as const] : [])))
}
