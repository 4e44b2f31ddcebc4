<script setup lang="ts">
import { computed } from 'vue'
import { isProblem, problemCatalogue } from '@ledgerman/contract'

const props = defineProps<{ problem: unknown }>()
const shown = computed(() => {
  const { problem } = props
  if (problem === null || problem === undefined) return null
  if (isProblem(problem))
    return { title: problemCatalogue[problem.code].title, code: problem.code, detail: problem.detail }
  return {
    title: 'Something went wrong in this page',
    code: '',
    detail: problem instanceof Error ? problem.message : String(problem),
  }
})
</script>

<template>
  <v-alert
    v-if="shown"
    icon="$error"
    border="start"
    border-color="error"
    role="alert"
    :title="shown.title"
    data-test="problem"
  >
    <div>{{ shown.detail }}</div>
    <div v-if="shown.code" class="mono mt-1">{{ shown.code }}</div>
    <slot />
  </v-alert>
</template>
