<script setup lang="ts">
import { mdiDownload } from '@mdi/js'
import { ref } from 'vue'
import { client } from '../client.js'
import { saveFile } from '../layout/save-file.js'
import ProblemAlert from '../problems/ProblemAlert.vue'

/** All rows that an entry wrote, as a file: a receipt holds no more than a hundred of a step. */
const props = defineProps<{ target: string; entry: string }>()
const isLoading = ref(false)
const problem = ref<unknown>(null)

async function download() {
  isLoading.value = true
  problem.value = null
  try {
    const parts: string[] = []
    for await (const text of client.target(props.target).book.exportRows(props.entry, 'csv')) parts.push(text)
    saveFile(`${props.entry}.csv`, new Blob(parts, { type: 'text/csv' }))
  } catch (error) {
    problem.value = error
  } finally {
    isLoading.value = false
  }
}
</script>

<template>
  <div>
    <v-btn size="small" :prepend-icon="mdiDownload" :loading="isLoading" data-test="all-rows" @click="download"
      >All rows as CSV</v-btn
    >
    <ProblemAlert :problem="problem" class="mt-2" />
  </div>
</template>
