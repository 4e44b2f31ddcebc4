<script setup lang="ts">
import { computed } from 'vue'
import { propertyToText } from '@ledgerman/client'

/** One value on one line: null and the empty text told apart from everything else. */
const props = defineProps<{ value: unknown; longest?: number }>()
const text = computed(() => propertyToText(props.value))
const shown = computed(() => {
  const most = props.longest ?? 120
  return text.value.length > most ? `${text.value.slice(0, most - 1)}…` : text.value
})
</script>

<template>
  <span v-if="value === null || value === undefined" class="absent">null</span>
  <span v-else-if="value === ''" class="absent">empty</span>
  <span v-else :title="shown === text ? undefined : text">{{ shown }}</span>
</template>
