<script setup lang="ts">
import type { StepReceipt } from '@ledgerman/contract'
import ValueText from './ValueText.vue'

/** The statement as it was run, and each bound value with its place in it. */
defineProps<{ step: Pick<StepReceipt, 'statement' | 'binds'> }>()
</script>

<template>
  <div>
    <v-table density="compact" data-test="binds">
      <thead>
        <tr>
          <th style="width: 3rem">Bind</th>
          <th>For</th>
          <th>Value</th>
          <th>Type</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="bind in step.binds" :key="bind.position">
          <td class="mono">${{ bind.position }}</td>
          <td>{{ bind.name }}</td>
          <td class="mono"><ValueText :value="bind.value" /></td>
          <td class="text-medium-emphasis">{{ bind.type }}</td>
        </tr>
      </tbody>
    </v-table>
    <pre class="mono statement mt-3" data-test="statement" tabindex="0">{{ step.statement }}</pre>
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
</style>
