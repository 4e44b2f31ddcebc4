<script setup lang="ts">
import { mdiClose } from '@mdi/js'
import { ref, watch } from 'vue'
import { printJson, type RecordAsOf } from '@ledgerman/contract'
import { formatInstant } from '../book/format-instant.js'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import ValueText from '../receipts/ValueText.vue'

/** A record as it was at a moment, out of the book; what is another now stands out. */
const props = defineProps<{
  target: string
  mapping: string
  recordKey: readonly string[]
  /** An instant (RFC 3339). */
  at: string
  now: Readonly<Record<string, unknown>> | null
}>()
const emit = defineEmits<{ close: [] }>()
const found = ref<RecordAsOf | null>(null)
const problem = ref<unknown>(null)

watch(() => [props.target, props.mapping, props.recordKey.join('\0'), props.at], load, { immediate: true })

async function load() {
  found.value = null
  problem.value = null
  try {
    found.value = await client.target(props.target).loadAsOf(props.mapping, props.recordKey, props.at)
  } catch (error) {
    problem.value = error
  }
}

function isOther(name: string, value: unknown): boolean {
  return props.now !== null && printJson(props.now[name]) !== printJson(value)
}
</script>

<template>
  <v-card variant="flat" border class="mb-3" data-test="as-of">
    <v-card-item>
      <v-card-title>As of {{ formatInstant(at) }} UTC</v-card-title>
      <template #append>
        <v-btn :icon="mdiClose" size="small" variant="text" aria-label="Close" @click="emit('close')" />
      </template>
    </v-card-item>
    <v-card-text>
      <ProblemAlert :problem="problem" />
      <v-alert v-if="found && !found.sure" type="warning" variant="tonal" density="compact" class="mb-2"
        >Not sure: {{ found.because }}</v-alert
      >
      <p v-if="found && found.record === null" class="text-medium-emphasis">There was no such record then.</p>
      <v-table v-if="found?.record" density="compact">
        <tbody>
          <tr v-for="(value, name) in found.record" :key="name" :class="{ other: isOther(String(name), value) }">
            <td class="text-medium-emphasis">{{ name }}</td>
            <td><ValueText :value="value" :longest="60" /></td>
          </tr>
        </tbody>
      </v-table>
    </v-card-text>
  </v-card>
</template>

<style scoped>
.other td {
  background: rgba(var(--v-theme-primary), 0.08);
  font-weight: 600;
}
</style>
