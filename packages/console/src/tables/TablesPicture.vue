<script setup lang="ts">
import { Handle, MarkerType, Position, VueFlow } from '@vue-flow/core'
import '@vue-flow/core/dist/style.css'
import '@vue-flow/core/dist/theme-default.css'
import { computed } from 'vue'
import type { TableSummary } from '@ledgerman/contract'
import RoutedLine from '../layout/RoutedLine.vue'
import { arrangeTables, BOX, pathOf } from './arrange-tables.js'
import { sizeOf } from './size-of.js'

/** The tables, and an arrow for the foreign keys from the table that refers to the one that is referred to. */
const props = defineProps<{ tables: TableSummary[]; selected: string | null }>()
const emit = defineEmits<{ select: [path: string] }>()

const layout = computed(() => arrangeTables(props.tables))
const edges = computed(() =>
  layout.value.arrows.map((arrow) => ({
    id: arrow.id,
    source: arrow.source,
    target: arrow.target,
    type: 'key',
    data: arrow.label,
    markerEnd: MarkerType.ArrowClosed,
  })),
)
const nodes = computed(() => [
  ...layout.value.frames.map(({ schema, x, y, width, height }) => ({
    id: `schema ${schema}`,
    type: 'schema',
    position: { x, y },
    data: { schema, width, height },
    selectable: false,
    zIndex: -1,
  })),
  ...props.tables.map((table) => ({
    id: pathOf(table),
    type: 'table',
    position: layout.value.places.get(pathOf(table)) ?? { x: 0, y: 0 },
    data: table,
  })),
])

/** What can be done with a table's rows, and the mappings it has. */
function standingOf({ cannotChange, key, mappings }: TableSummary): string {
  const mapped = mappings.length > 0 ? `mapped as ${mappings.join(', ')}` : 'not mapped'
  if (!cannotChange) return mapped
  return `${key ? 'not changeable' : 'no key'} · ${mapped}`
}
</script>

<template>
  <VueFlow
    :nodes="nodes"
    :edges="edges"
    :nodes-connectable="false"
    :nodes-draggable="false"
    :min-zoom="0.1"
    fit-view-on-init
    class="picture"
    data-test="tables-picture"
    @node-click="({ node }) => node.type === 'table' && emit('select', node.id)"
  >
    <template #edge-key="edge">
      <RoutedLine :edge="edge" :line="layout.lines.get(edge.id)" :label="edge.data" />
    </template>
    <template #node-schema="{ data }">
      <div class="schema" :style="{ width: `${data.width}px`, height: `${data.height}px` }">{{ data.schema }}</div>
    </template>
    <template #node-table="{ id, data }">
      <div
        class="table-box"
        :class="{ selected: id === selected, unmapped: data.mappings.length === 0 }"
        :style="{ width: `${BOX.width}px`, height: `${BOX.height}px` }"
        :title="id"
      >
        <Handle type="target" :position="Position.Top" />
        <div class="font-weight-medium text-truncate">{{ data.name }}</div>
        <div class="small-note text-medium-emphasis text-truncate">{{ sizeOf(data) }}</div>
        <div class="small-note text-truncate" :class="data.cannotChange ? 'text-warning' : 'text-medium-emphasis'">
          {{ standingOf(data) }}
        </div>
        <Handle type="source" :position="Position.Bottom" />
      </div>
    </template>
  </VueFlow>
</template>

<style scoped>
.picture {
  height: calc(100vh - 210px);
  min-height: 360px;
}
.table-box {
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
.schema {
  border: 1px solid rgba(var(--v-theme-on-surface), 0.12);
  border-radius: 10px;
  padding: 6px 12px;
  color: rgba(var(--v-theme-on-surface), 0.75);
  font-weight: 600;
}
.picture :deep(.vue-flow__handle) {
  opacity: 0;
}
</style>
