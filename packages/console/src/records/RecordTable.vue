<script setup lang="ts">
import { mdiArrowDown, mdiArrowUp } from '@mdi/js'
import type { RecordValues } from '@ledgerman/contract'
import ValueText from '../receipts/ValueText.vue'
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
const NUMBERS = ['integer', 'bigint', 'numeric', 'float', 'money']

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
  <v-table density="compact" hover class="records" data-test="records">
    <thead>
      <tr>
        <th
          v-for="{ path, property } in columns"
          :key="path"
          :class="{ number: NUMBERS.includes(property.kind) }"
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
          :class="{ number: NUMBERS.includes(property.kind) }"
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
