<script setup lang="ts">
import { computed } from 'vue'
import { writtenWithItText } from '@ledgerman/client'
import type { Receipt } from '@ledgerman/contract'

// What a receipt says beside its steps, or a report beside its rows: roundings, what was written with them, and what cannot be shown.
const props = defineProps<{ receipt: Pick<Receipt, 'rounded' | 'writtenWithIt' | 'notShown'>; isOneStep?: boolean }>()
const remarks = computed(() => [
  ...(props.receipt.rounded ?? []).map(
    ({ step, property, to }) =>
      `Rounded: ${property}${props.isOneStep ? '' : ` of step ${step}`}, to what ${to} keeps.`,
  ),
  ...[writtenWithItText(props.receipt)].filter(Boolean).map((words) => `Written with it: ${words}.`),
  ...(props.receipt.notShown ?? []).map((words) =>
    words.startsWith('Not put back: ') ? words : `Not shown: ${words}`,
  ),
])
</script>

<template>
  <div v-if="remarks.length > 0" class="text-body-2" data-test="remarks">
    <p v-for="remark in remarks" :key="remark">{{ remark }}</p>
  </div>
</template>
