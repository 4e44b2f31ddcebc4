<script setup lang="ts">
import { Handle, MarkerType, Position, VueFlow } from '@vue-flow/core'
import '@vue-flow/core/dist/style.css'
import '@vue-flow/core/dist/theme-default.css'
import { computed } from 'vue'
import type { TableSummary } from '@ledgerman/contract'
import { arrange } from '../layout/arrange.js'

/** The tables, and an arrow for each foreign key, from the table that refers to the one that is referred to. */
const props = defineProps<{ tables: TableSummary[]; selected: string | null }>()
const emit = defineEmits<{ select: [path: string] }>()
const BOX = { width: 190, height: 70 }
const pathOf = ({ schema, name }: TableSummary) => `${schema}.${name}`

const edges = computed(() => {
  const known = new Set(props.tables.map(pathOf))
  return props.tables.flatMap((table) =>
    table.references
      .filter((reference) => known.has(reference.table))
      .map(({ columns, table: other }) => ({
        id: `${pathOf(table)} ${columns.join(',')} ${other}`,
        source: pathOf(table),
        target: other,
        label: columns.join(', '),
        markerEnd: MarkerType.ArrowClosed,
      })),
  )
})
const nodes = computed(() => {
  const places = arrange(
    props.tables.map((table) => ({ id: pathOf(table), ...BOX })),
    edges.value,
    'TB',
  )
  return props.tables.map((table) => ({
    id: pathOf(table),
    type: 'table',
    position: places.get(pathOf(table)) ?? { x: 0, y: 0 },
    data: table,
  }))
})
</script>

<template>
  <VueFlow
    :nodes="nodes"
    :edges="edges"
    :nodes-connectable="false"
    :min-zoom="0.2"
    fit-view-on-init
    class="picture"
    data-test="tables-picture"
    @node-click="({ node }) => emit('select', node.id)"
  >
    <template #node-table="{ id, data }">
      <div class="table-box" :class="{ selected: id === selected, unmapped: data.mappings.length === 0 }">
        <Handle type="target" :position="Position.Top" />
        <div class="font-weight-medium">{{ data.schema === 'public' ? data.name : id }}</div>
        <div class="small-note text-medium-emphasis">
          {{ data.mappings.length > 0 ? `mapped as ${data.mappings.join(', ')}` : 'not mapped' }}
        </div>
        <div v-if="data.cannotChange" class="small-note text-warning">{{ data.key ? 'not changeable' : 'no key' }}</div>
        <Handle type="source" :position="Position.Bottom" />
      </div>
    </template>
  </VueFlow>
</template>

<style scoped>
.picture {
  height: calc(100vh - 150px);
  min-height: 360px;
}
.table-box {
  width: 190px;
  min-height: 52px;
  padding: 6px 10px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.35);
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
  color: rgb(var(--v-theme-on-surface));
  font-size: 0.875rem;
  cursor: pointer;
}
.table-box.unmapped {
  border-style: dashed;
}
.table-box.selected {
  outline: 2px solid rgb(var(--v-theme-primary));
}
.picture :deep(.vue-flow__edge-textbg) {
  fill: rgb(var(--v-theme-background));
}
.picture :deep(.vue-flow__edge-text) {
  fill: rgb(var(--v-theme-on-surface));
  font-size: 10px;
}
.picture :deep(.vue-flow__handle) {
  opacity: 0;
}
</style>
