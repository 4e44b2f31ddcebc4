<script setup lang="ts">
import { ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { toRecordAddress, type EntryInfo } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import ReceiptCard from '../receipts/ReceiptCard.vue'
import { formatInstant } from './format-instant.js'

const route = useRoute()
const entry = ref<EntryInfo | null>(null)
const problem = ref<unknown>(null)

watch(
  () => [route.params['target'], route.params['entry']] as const,
  async ([target, id]) => {
    if (id === undefined) return
    problem.value = null
    try {
      entry.value = await client.target(String(target)).entry(String(id))
    } catch (error) {
      problem.value = error
    }
  },
  { immediate: true },
)

function recordLink({ mapping, key, receipt }: EntryInfo) {
  return {
    name: 'record',
    params: { target: receipt.target, mapping, key: toRecordAddress(Object.values(key ?? {}).map(String)) },
  }
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="text-medium-emphasis mb-1">
      <router-link :to="{ name: 'book', params: { target: route.params['target'] } }">Book</router-link> / entry
    </div>
    <ProblemAlert :problem="problem" />
    <template v-if="entry">
      <h1 class="mb-1">
        {{ entry.kind }} {{ entry.mapping }}
        <router-link v-if="entry.key && entry.mapping" :to="recordLink(entry)">{{
          Object.values(entry.key).join(', ')
        }}</router-link>
      </h1>
      <p class="text-medium-emphasis mb-4">
        {{ formatInstant(entry.at) }} UTC by {{ entry.actor }}, mapping revision {{ entry.receipt.revision ?? '–' }} ·
        <span class="mono">{{ entry.id }}</span>
      </p>
      <v-alert v-if="entry.problem" type="error" variant="tonal" class="mb-4" :title="entry.problem">{{
        entry.detail
      }}</v-alert>
      <ReceiptCard :receipt="entry.receipt" is-entry />
    </template>
  </v-container>
</template>
