<script setup lang="ts">
import { computed } from 'vue'
import { countOf } from '@ledgerman/client'
import type { TableSummary } from '@ledgerman/contract'
import { pathOf } from './arrange-tables.js'
import { sizeOf } from './size-of.js'

/** Many tables, by schema and name: arrows between so many could not be followed. */
const props = defineProps<{ tables: TableSummary[]; selected: string | null }>()
const emit = defineEmits<{ select: [path: string] }>()
const schemas = computed(() => {
  const bySchema = new Map<string, TableSummary[]>()
  for (const table of props.tables) bySchema.set(table.schema, [...(bySchema.get(table.schema) ?? []), table])
  for (const own of bySchema.values())
    own.sort((one, other) => one.name.localeCompare(other.name, undefined, { numeric: true }))
  return [...bySchema].sort(([one], [other]) => one.localeCompare(other))
})
</script>

<template>
  <div class="pa-4 grid-of-tables" data-test="tables-grid">
    <section v-for="[schema, own] in schemas" :key="schema" class="mb-4">
      <h2 class="mb-2">
        {{ schema }} <span class="text-medium-emphasis small-note">{{ countOf(own.length, 'table') }}</span>
      </h2>
      <div class="tables">
        <button
          v-for="table in own"
          :key="table.name"
          type="button"
          class="table"
          :class="{ selected: pathOf(table) === selected, unmapped: table.mappings.length === 0 }"
          :title="`${pathOf(table)}: ${table.mappings.length > 0 ? `mapped as ${table.mappings.join(', ')}` : 'not mapped'}`"
          @click="emit('select', pathOf(table))"
        >
          <span class="text-truncate d-block">{{ table.name }}</span>
          <span class="small-note text-medium-emphasis">{{ sizeOf(table) }}</span>
        </button>
      </div>
    </section>
  </div>
</template>

<style scoped>
.grid-of-tables {
  height: calc(100vh - 210px);
  min-height: 360px;
  overflow-y: auto;
}
h2 {
  font-size: 1rem;
  font-weight: 600;
}
.tables {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(180px, 1fr));
  gap: 8px;
}
.table {
  text-align: left;
  padding: 4px 10px;
  min-width: 0;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.35);
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
  color: rgb(var(--v-theme-on-surface));
  font-size: 0.875rem;
}
.table.unmapped {
  border-style: dashed;
}
.table.selected {
  outline: 2px solid rgb(var(--v-theme-primary));
}
</style>
