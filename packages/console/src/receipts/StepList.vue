<script setup lang="ts">
import { computed, ref } from 'vue'
import { keyToText } from '@ledgerman/client'
import type { StepReceipt } from '@ledgerman/contract'
import DifferencesTable from './DifferencesTable.vue'
import DifferenceTable from './DifferenceTable.vue'
import StatementView from './StatementView.vue'

/** Each step of a run: counts, timing, what differs, and its statement with its binds. */
const props = defineProps<{ steps: readonly StepReceipt[] }>()
/** A reversal has as many steps as its entries had. */
const SHOWN = 50
const isWhole = ref(false)
const shown = computed(() => (isWhole.value ? props.steps : props.steps.slice(0, SHOWN)))
</script>

<template>
  <v-expansion-panels multiple variant="accordion" data-test="steps">
    <v-expansion-panel v-for="step in shown" :key="step.no" :data-test="`step-${step.no}`">
      <v-expansion-panel-title>
        <div class="step-title d-flex align-center ga-2 flex-wrap">
          <span class="text-medium-emphasis">{{ step.no }}</span>
          <strong>{{ step.kind }} {{ step.mapping ?? '' }}</strong>
          <span v-if="step.as" class="text-medium-emphasis">as {{ step.as }}</span>
          <v-spacer />
          <span v-if="step.skipped">skipped</span>
          <template v-else-if="step.kind === 'require'"
            ><span>{{ step.matched === 1 ? 'true' : 'not true' }}</span></template
          >
          <template v-else>
            <span>expected {{ step.expected }}</span>
            <span>matched {{ step.matched ?? '–' }}</span>
            <span v-if="step.kind !== 'load'">changed {{ step.changed ?? '–' }}</span>
          </template>
          <span v-if="step.durationMs !== null" class="text-medium-emphasis">{{ step.durationMs }} ms</span>
        </div>
      </v-expansion-panel-title>
      <v-expansion-panel-text>
        <template v-if="step.kind !== 'load'">
          <DifferencesTable
            v-if="step.rows.length > 1"
            :rows="step.rows"
            :total="step.changed ?? step.rows.length"
            class="mb-2"
          />
          <DifferenceTable v-for="(row, at) in step.rows" v-else :key="at" :row="row" class="mb-2" />
        </template>
        <p v-if="step.leftOut?.length" class="mb-2">
          Left out, held by others: {{ step.leftOut.map((key) => keyToText(key)).join(' · ') }}
        </p>
        <StatementView :step="step" />
      </v-expansion-panel-text>
    </v-expansion-panel>
  </v-expansion-panels>
  <v-btn v-if="shown.length < steps.length" class="mt-2" data-test="all-steps" @click="isWhole = true"
    >Show all {{ steps.length }} steps</v-btn
  >
</template>

<style scoped>
.step-title {
  width: 100%;
  font-size: 0.8125rem;
}
.v-expansion-panel-title {
  padding-inline: 16px;
}
:deep(.v-expansion-panel-text__wrapper) {
  padding: 4px 8px 16px;
}
</style>
