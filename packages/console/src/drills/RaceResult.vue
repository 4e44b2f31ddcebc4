<script setup lang="ts">
import { mdiAlertCircle, mdiCheck } from '@mdi/js'
import type { RaceDrill } from '@ledgerman/contract'

/** The result of many runs at once. */
defineProps<{ drill: RaceDrill }>()
</script>

<template>
  <div data-test="race">
    <div class="d-flex flex-wrap ga-6 mb-4">
      <div
        v-for="(value, name) in {
          committed: drill.committed,
          refused: drill.refused,
          retries: drill.retries,
          'median, ms': drill.latencyMs.median,
          'p95, ms': drill.latencyMs.p95,
          'slowest, ms': drill.latencyMs.most,
          'runs a second': drill.perSecond,
        }"
        :key="name"
      >
        <div class="text-h6">{{ value }}</div>
        <div class="small-note text-medium-emphasis">{{ name }}</div>
      </div>
    </div>
    <p v-for="(count, code) in drill.refusals" :key="code" class="small-note">{{ count }} were refused: {{ code }}</p>
    <div v-for="kept in drill.kept" :key="kept.expression" class="d-flex align-center ga-2 mt-2" :data-held="kept.held">
      <v-icon :icon="kept.held ? mdiCheck : mdiAlertCircle" :color="kept.held ? 'success' : 'error'" size="small" />
      <span class="mono">{{ kept.expression }}</span>
      <span>{{ kept.message }}</span>
      <span class="small-note text-medium-emphasis">checked {{ kept.checks }} times</span>
    </div>
  </div>
</template>
