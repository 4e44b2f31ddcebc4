<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { sessionWords, type WaitingSession } from '@ledgerman/contract'
import { client } from '../client.js'

/** Who waits for the row of a record, looked at again while it is open. */
const props = defineProps<{ target: string; mapping: string; recordKey: string[] }>()
const EVERY_MS = 5_000
const sessions = ref<WaitingSession[]>([])
const waiting = computed(() => sessions.value.filter(({ isRoot }) => !isRoot))
const roots = computed(() => sessions.value.filter(({ isRoot }) => isRoot))
const timer = setInterval(() => void look(), EVERY_MS)

onBeforeUnmount(() => clearInterval(timer))
watch(
  () => [props.target, props.mapping, props.recordKey],
  () => {
    sessions.value = []
    void look()
  },
  { immediate: true },
)

async function look() {
  if (document.hidden) return
  const { target, mapping, recordKey } = props
  // A note beside the record: where nobody can say who waits for it, there is none.
  const found = await client
    .target(target)
    .rowWaits(mapping, recordKey)
    .catch(() => [])
  if (recordKey === props.recordKey) sessions.value = found
}

function describe(session: WaitingSession): string {
  const { state, idleMs } = session
  const idle = idleMs === null ? '' : ` for ${(idleMs / 1000).toFixed(0)} s`
  return `${sessionWords(session)}, ${state ?? ''}${idle}`
}
</script>

<template>
  <v-alert
    v-if="waiting.length > 0"
    type="warning"
    variant="tonal"
    density="compact"
    role="status"
    data-test="row-waits"
  >
    {{ waiting.length }} {{ waiting.length === 1 ? 'session waits' : 'sessions wait' }} for this row<template
      v-if="roots.length > 0"
      >, blocked by {{ roots.map(describe).join('; ') }}</template
    >. <router-link :to="{ name: 'waits', params: { target } }">Who waits for whom</router-link>
  </v-alert>
</template>
