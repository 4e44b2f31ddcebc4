<script setup lang="ts">
import { mdiArrowDown, mdiArrowUp } from '@mdi/js'
import { nextTick, onBeforeUnmount, onMounted, ref, useTemplateRef, watch } from 'vue'
import type { RecordValues } from '@ledgerman/contract'
import ValueText from '../receipts/ValueText.vue'
import { NUMBER_KINDS } from './number-kinds.js'
import type { NamedProperty } from './useLinkedNames.js'
import type { Direction } from './useListView.js'

const props = defineProps<{
  columns: NamedProperty[]
  records: RecordValues[]
  addresses: (string | undefined)[]
  changed: ReadonlySet<string>
  sorted: { path: string; direction: Direction } | null
}>()
const emit = defineEmits<{ open: [address: string]; sort: [path: string] }>()
const table = useTemplateRef<{ $el: HTMLElement }>('table')
/** Where each key column stays when the table is moved sideways, in pixels from the left. */
const stays = ref(new Map<string, number>())
const hasMore = ref({ left: false, right: false })
const sizes = new ResizeObserver(() => measure())
const wrapper = () => table.value?.$el.querySelector<HTMLElement>('.v-table__wrapper')

onMounted(() => {
  const box = wrapper()
  if (!box) return
  sizes.observe(box)
  box.addEventListener('scroll', look, { passive: true })
})
onBeforeUnmount(() => sizes.disconnect())
watch(
  () => [props.columns, props.records],
  () => void nextTick(measure),
)

function measure() {
  const heads = [...(wrapper()?.querySelectorAll<HTMLElement>('thead th') ?? [])]
  let left = 0
  const places = new Map<string, number>()
  props.columns.forEach(({ path, property }, at) => {
    if (!property.key || path.includes('.')) return
    places.set(path, left)
    left += heads[at]?.offsetWidth ?? 0
  })
  stays.value = places
  look()
}

function look() {
  const box = wrapper()
  if (!box) return
  const { scrollLeft, scrollWidth, clientWidth } = box
  hasMore.value = { left: scrollLeft > 0, right: scrollLeft + clientWidth < scrollWidth - 1 }
}

function placeOf(path: string) {
  const left = stays.value.get(path)
  return left === undefined ? undefined : { left: `${left}px` }
}

function open(at: number) {
  const address = props.addresses[at]
  if (address !== undefined) emit('open', address)
}

function valueAt(record: RecordValues, path: string): unknown {
  let value: unknown = record
  for (const name of path.split('.')) value = (value as RecordValues | null | undefined)?.[name] ?? null
  return value
}
</script>

<template>
  <v-table
    ref="table"
    density="compact"
    hover
    class="records"
    :class="{ 'more-left': hasMore.left, 'more-right': hasMore.right }"
    data-test="records"
  >
    <thead>
      <tr>
        <th
          v-for="{ path, property } in columns"
          :key="path"
          :class="{ number: NUMBER_KINDS.includes(property.kind), stays: stays.has(path) }"
          :style="placeOf(path)"
          :title="`${property.column} ${property.type}`"
          :aria-sort="sorted?.path === path ? (sorted.direction === 'asc' ? 'ascending' : 'descending') : undefined"
        >
          <button type="button" class="sort" :data-test="`sort-${path}`" @click="emit('sort', path)">
            {{ path }}
            <v-icon
              v-if="sorted?.path === path"
              :icon="sorted.direction === 'asc' ? mdiArrowUp : mdiArrowDown"
              size="14"
            />
          </button>
        </th>
      </tr>
    </thead>
    <tbody>
      <tr
        v-for="(record, at) in records"
        :key="at"
        :class="{ openable: addresses[at] !== undefined, 'just-changed': changed.has(addresses[at] ?? '') }"
        :tabindex="addresses[at] !== undefined ? 0 : undefined"
        @click="open(at)"
        @keydown.enter="open(at)"
      >
        <td
          v-for="{ path, property } in columns"
          :key="path"
          class="text-no-wrap"
          :class="{ number: NUMBER_KINDS.includes(property.kind), stays: stays.has(path) }"
          :style="placeOf(path)"
        >
          <ValueText :value="valueAt(record, path)" :longest="36" />
        </td>
      </tr>
    </tbody>
  </v-table>
</template>

<style scoped>
.records :deep(.v-table__wrapper) {
  max-height: calc(100vh - 240px);
}
.records :deep(th) {
  position: sticky;
  top: 0;
  background: rgb(var(--v-theme-surface)) !important;
  z-index: 1;
}
.records :deep(.stays) {
  position: sticky;
  background: rgb(var(--v-theme-surface));
  z-index: 1;
}
.records :deep(th.stays) {
  z-index: 2;
}
/* That there is more to the side than is seen. */
.records::after {
  content: '';
  position: absolute;
  top: 0;
  bottom: 0;
  width: 18px;
  pointer-events: none;
  opacity: 0;
  z-index: 3;
}
.records::after {
  right: 0;
  background: linear-gradient(to left, rgba(var(--v-theme-on-surface), 0.22), transparent);
}
.records.more-right::after {
  opacity: 1;
}
.records.more-left :deep(.stays) {
  box-shadow: 6px 0 6px -4px rgba(var(--v-theme-on-surface), 0.3);
}
.records {
  position: relative;
}
.sort {
  font: inherit;
  color: inherit;
  background: none;
  border: none;
  padding: 0;
  cursor: pointer;
  white-space: nowrap;
}
</style>
