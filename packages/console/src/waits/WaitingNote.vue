<script setup lang="ts">
import { computed } from 'vue'
import { sessionWords, type LockHolder } from '@ledgerman/contract'

/** Said while a run waits for a lock: who holds it, and who is at the root. */
const props = defineProps<{ holders: readonly LockHolder[]; target: string }>()
const root = computed(() => props.holders.findLast(({ isRoot }) => isRoot))
const first = computed(() => props.holders[0])
const name = (holder: LockHolder) => `${sessionWords(holder)}${holder.state ? `, ${holder.state}` : ''}`
</script>

<template>
  <v-alert
    v-if="first"
    icon="$info"
    border="start"
    border-color="info"
    density="compact"
    role="status"
    data-test="waiting"
  >
    Waiting for a lock held by {{ name(first)
    }}<template v-if="root && root.pid !== first.pid">; the root blocker is {{ name(root) }}</template
    >. <router-link :to="{ name: 'waits', params: { target } }">Who waits for whom</router-link>
  </v-alert>
</template>
