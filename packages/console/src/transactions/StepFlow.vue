<script setup lang="ts">
import { Handle, MarkerType, Position, VueFlow } from '@vue-flow/core'
import '@vue-flow/core/dist/style.css'
import '@vue-flow/core/dist/theme-default.css'
import { computed } from 'vue'
import type { StepDefinition, StepReceipt } from '@ledgerman/contract'
import { describeStep } from './describe-step.js'

/** The steps of a transaction from top to bottom: what each reads, locks, changes, requires; and how it went, where it was run. */
const props = defineProps<{
  steps: readonly StepDefinition[]
  receipts: readonly StepReceipt[]
  refusedAt: number | null
}>()
const BOX = { width: 440, height: 78, gap: 28 }

const nodes = computed(() =>
  props.steps.map((step, at) => ({
    id: String(at + 1),
    type: 'step',
    position: { x: 0, y: at * (BOX.height + BOX.gap) },
    data: {
      ...describeStep(step),
      receipt: props.receipts.find(({ no }) => no === at + 1),
      isRefused: props.refusedAt === at + 1,
    },
  })),
)
const edges = computed(() =>
  props.steps.slice(1).map((step, at) => ({
    id: `to ${at + 2}`,
    source: String(at + 1),
    target: String(at + 2),
    label: step.when === undefined ? '' : `when ${step.when}`,
    markerEnd: MarkerType.ArrowClosed,
  })),
)

/** How a step went, in a few words. */
function saysOf({ skipped, matched, changed }: StepReceipt, does: string): string {
  if (skipped) return 'skipped'
  if (does === 'requires') return matched === 1 ? 'true' : 'not true'
  if (matched === null) return 'refused'
  return does === 'reads' ? `${matched} matched` : `${matched} matched, ${changed ?? '–'} changed`
}
</script>

<template>
  <VueFlow
    :nodes="nodes"
    :edges="edges"
    :nodes-connectable="false"
    :nodes-draggable="false"
    :zoom-on-scroll="false"
    :prevent-scrolling="false"
    :max-zoom="1"
    fit-view-on-init
    class="flow"
    :style="{ height: `${Math.min(steps.length * (BOX.height + BOX.gap) + 20, 640)}px` }"
    data-test="flow"
  >
    <template #node-step="{ id, data }">
      <div class="step" :class="[data.does, { refused: data.isRefused, skipped: data.receipt?.skipped }]">
        <Handle type="target" :position="Position.Top" />
        <div class="d-flex align-center ga-2">
          <span class="text-medium-emphasis">{{ id }}</span>
          <strong class="text-no-wrap">{{ data.title }}</strong>
          <v-chip v-for="tag in data.tags" :key="tag" size="x-small" class="flex-shrink-0">{{ tag }}</v-chip>
          <v-spacer />
          <span v-if="data.receipt" class="small-note text-no-wrap">{{ saysOf(data.receipt, data.does) }}</span>
        </div>
        <div class="mono text-truncate" :title="data.detail">{{ data.detail }}</div>
        <Handle type="source" :position="Position.Bottom" />
      </div>
    </template>
  </VueFlow>
</template>

<style scoped>
.step {
  width: 440px;
  min-height: 58px;
  padding: 8px 12px;
  border: 1px solid rgba(var(--v-theme-on-surface), 0.3);
  border-left-width: 5px;
  border-radius: 6px;
  background: rgb(var(--v-theme-surface));
  color: rgb(var(--v-theme-on-surface));
  font-size: 0.875rem;
}
.step.changes {
  border-left-color: rgb(var(--v-theme-primary));
}
.step.requires {
  border-left-color: rgb(var(--v-theme-secondary));
  border-left-style: double;
}
.step.refused {
  outline: 2px solid rgb(var(--v-theme-error));
}
.step.skipped {
  opacity: 0.55;
}
.flow :deep(.vue-flow__handle) {
  opacity: 0;
}
.flow :deep(.vue-flow__edge-textbg) {
  fill: rgb(var(--v-theme-surface));
}
.flow :deep(.vue-flow__edge-text) {
  fill: rgb(var(--v-theme-on-surface));
  font-size: 11px;
}
</style>
