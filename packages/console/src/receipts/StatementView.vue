<script setup lang="ts">
import { computed, ref } from 'vue'
import type { StepReceipt } from '@ledgerman/contract'
import ValueText from './ValueText.vue'

/** A statement and its bound values: what it comes to, and, when asked for, all that was run. */
const props = defineProps<{ step: Pick<StepReceipt, 'statement' | 'binds' | 'short'> }>()

const isWhole = ref(false)
const shown = computed(() => (isWhole.value ? props.step : (props.step.short ?? props.step)))
</script>

<template>
  <div>
    <pre class="mono statement" data-test="statement" tabindex="0">{{ shown.statement }}</pre>
    <div v-if="step.short" class="d-flex align-start ga-4 mt-1 mb-3">
      <ul v-if="!isWhole" class="around text-medium-emphasis" data-test="around">
        <li v-for="words in step.short.around" :key="words">{{ words }}</li>
      </ul>
      <p v-else class="text-medium-emphasis around">All that was run: it finds, judges, writes and books.</p>
      <v-spacer />
      <v-btn size="small" variant="text" data-test="whole-statement" @click="isWhole = !isWhole">
        {{ isWhole ? 'Short form' : 'Whole statement' }}
      </v-btn>
    </div>
    <v-table v-if="shown.binds.length > 0" density="compact" data-test="binds">
      <thead>
        <tr>
          <th style="width: 3rem">Bind</th>
          <th>For</th>
          <th>Value</th>
          <th>Type</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="bind in shown.binds" :key="bind.position">
          <td class="mono">${{ bind.position }}</td>
          <td>{{ bind.name }}</td>
          <td class="mono"><ValueText :value="bind.value" /></td>
          <td class="text-medium-emphasis">{{ bind.type }}</td>
        </tr>
      </tbody>
    </v-table>
  </div>
</template>

<style scoped>
.statement {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  padding: 12px;
  border-radius: 4px;
  background: rgba(var(--v-theme-on-surface), 0.05);
}
.around {
  font-size: 0.8125rem;
}
ul.around {
  padding-inline-start: 1.25rem;
}
</style>
