<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Anomaly, InterleavingDrill } from '@ledgerman/contract'
import SchedulePicture from './SchedulePicture.vue'

/** The results of the interleavings by level and guard; one bad schedule of it is drawn. */
const props = defineProps<{ drill: InterleavingDrill }>()
const chosen = ref<Anomaly | null>(null)
watch(
  () => props.drill,
  ({ results }) => (chosen.value = results.flatMap(({ anomalies }) => anomalies)[0] ?? null),
  { immediate: true },
)
const reasons = (refusals: Record<string, number>) =>
  Object.entries(refusals)
    .map(([code, count]) => `${code} ${count}`)
    .join(', ')
</script>

<template>
  <v-table density="compact" class="mb-4" data-test="interleavings">
    <thead>
      <tr>
        <th>Isolation</th>
        <th>Guard</th>
        <th class="number">Tried</th>
        <th class="number">Committed</th>
        <th class="number">Refused</th>
        <th>With</th>
        <th>Anomalies</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="(result, at) in drill.results" :key="at">
        <td>{{ result.isolation }}</td>
        <td>{{ result.guard }}</td>
        <td class="number">{{ result.tried }}</td>
        <td class="number">{{ result.committed }}</td>
        <td class="number">{{ result.refused }}</td>
        <td class="small-note">{{ reasons(result.refusals) }}</td>
        <td>
          <span v-if="result.anomalies.length === 0" class="text-success">none</span>
          <v-chip
            v-for="anomaly in result.anomalies"
            :key="anomaly.name"
            size="small"
            color="error"
            class="mr-1"
            :variant="anomaly === chosen ? 'flat' : 'tonal'"
            data-test="anomaly"
            @click="chosen = anomaly"
            >{{ anomaly.name }} {{ anomaly.schedules }}</v-chip
          >
        </td>
      </tr>
    </tbody>
  </v-table>
  <p v-if="drill.notCompared.length > 0" class="small-note text-medium-emphasis mb-3">
    Not compared, since chance decides them: {{ drill.notCompared.join(', ') }}.
  </p>
  <SchedulePicture v-if="chosen" :anomaly="chosen" :runs="drill.runs" />
</template>
