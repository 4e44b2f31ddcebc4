<script setup lang="ts">
import { Handle, MarkerType, Position, VueFlow, useVueFlow } from '@vue-flow/core'
import '@vue-flow/core/dist/style.css'
import '@vue-flow/core/dist/theme-default.css'
import { computed, nextTick, watch } from 'vue'
import type { WaitingSession } from '@ledgerman/contract'
import { arrange } from '../layout/arrange.js'
import RoutedLine from '../layout/RoutedLine.vue'

/** Sessions as boxes, an arrow from each that waits to the one it waits for. */
const props = defineProps<{ sessions: readonly WaitingSession[]; selected: number | null }>()
const emit = defineEmits<{ select: [pid: number] }>()
const BOX = { width: 190, height: 72 }
const { fitView } = useVueFlow('waits')

const arrows = computed(() =>
  props.sessions.flatMap(({ pid, blockedBy, lock }) =>
    blockedBy.map((blocker) => ({
      id: `${pid} ${blocker}`,
      source: String(pid),
      target: String(blocker),
      label: lock ?? '',
    })),
  ),
)
const layout = computed(() =>
  arrange(
    props.sessions.map(({ pid }) => ({ id: String(pid), ...BOX })),
    arrows.value,
    'LR',
  ),
)
const edges = computed(() =>
  arrows.value.map(({ label, ...arrow }) => ({
    ...arrow,
    type: 'wait',
    data: label,
    animated: true,
    markerEnd: MarkerType.ArrowClosed,
  })),
)
const nodes = computed(() =>
  props.sessions.map((session) => ({
    id: String(session.pid),
    type: 'session',
    position: layout.value.places.get(String(session.pid)) ?? { x: 0, y: 0 },
    data: session,
  })),
)
watch(
  () => props.sessions.map(({ pid }) => pid).join(),
  async () => {
    await nextTick()
    void fitView({ maxZoom: 1, padding: 0.1 })
  },
)
</script>

<template>
  <VueFlow
    id="waits"
    :nodes="nodes"
    :edges="edges"
    :nodes-connectable="false"
    :nodes-draggable="false"
    :min-zoom="0.05"
    :max-zoom="1"
    fit-view-on-init
    class="picture"
    data-test="waits-picture"
    @node-click="({ node }) => emit('select', Number(node.id))"
  >
    <template #edge-wait="edge">
      <RoutedLine :edge="edge" :line="layout.lines.get(edge.id)" :label="edge.data" />
    </template>
    <template #node-session="{ id, data }">
      <div
        class="session"
        :style="{ width: `${BOX.width}px`, height: `${BOX.height}px` }"
        :class="{ root: data.isRoot, idle: data.isIdleTooLong, selected: Number(id) === selected }"
      >
        <Handle type="source" :position="Position.Right" />
        <div>
          <strong v-if="data.pid > 0">{{ id }}</strong> {{ data.application }}
        </div>
        <div class="small-note text-medium-emphasis">{{ data.pid > 0 ? data.state : 'prepared transaction' }}</div>
        <div class="small-note">{{ data.isRoot ? `root, ${data.behind} behind` : (data.wants ?? '') }}</div>
        <Handle type="target" :position="Position.Left" />
      </div>
    </template>
  </VueFlow>
</template>

<style scoped>
.picture {
  height: 300px;
}
.session {
  padding: 4px 10px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.35);
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
  color: rgb(var(--v-theme-on-surface));
  font-size: 0.8125rem;
  overflow: hidden;
  white-space: nowrap;
  text-overflow: ellipsis;
}
.session.root {
  border: 2px solid rgb(var(--v-theme-error));
}
.session.idle {
  background: rgba(var(--v-theme-warning), 0.18);
}
.session.selected {
  outline: 2px solid rgb(var(--v-theme-primary));
}
.picture :deep(.vue-flow__handle) {
  opacity: 0;
}
</style>
