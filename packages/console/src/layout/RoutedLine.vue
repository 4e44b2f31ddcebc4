<script setup lang="ts">
import { BaseEdge, EdgeLabelRenderer, type EdgeProps } from '@vue-flow/core'
import { computed } from 'vue'
import { pathThrough, type Line } from './arrange.js'

/** An arrow of a picture along its routed line. */
const props = defineProps<{ edge: EdgeProps; line: Line | undefined; label: string }>()

const drawn = computed(() => props.line && { path: pathThrough(props.line.points), ...props.line.labelAt })
</script>

<template>
  <BaseEdge v-if="drawn" :path="drawn.path" :marker-end="edge.markerEnd" />
  <EdgeLabelRenderer v-if="drawn">
    <div class="line-label" :style="{ transform: `translate(-50%, -50%) translate(${drawn.x}px, ${drawn.y}px)` }">
      {{ label }}
    </div>
  </EdgeLabelRenderer>
</template>

<style scoped>
.line-label {
  position: absolute;
  padding: 0 3px;
  border-radius: 3px;
  background: rgb(var(--v-theme-surface));
  color: rgb(var(--v-theme-on-surface));
  font-size: 10px;
  line-height: 14px;
  white-space: nowrap;
  pointer-events: none;
}
</style>
