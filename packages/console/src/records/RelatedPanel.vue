<script setup lang="ts">
import { ref, watch } from 'vue'
import type { MappingInfo, RecordValues } from '@ledgerman/contract'
import { client } from '../client.js'
import { recordRoute } from './record-address.js'
import { relatedRecords, type RelatedRecords } from './linked-records.js'

/** The records that lead to this one: a few of each link, and the way to all. */
const props = defineProps<{ target: string; mapping: MappingInfo; record: RecordValues }>()
const related = ref<RelatedRecords[]>([])

watch(
  () => [props.mapping.name, props.record] as const,
  async () => {
    related.value = []
    const found = await relatedRecords(client.target(props.target), props.mapping, props.record)
    related.value = found
  },
  { immediate: true },
)
</script>

<template>
  <v-card v-if="related.length > 0" class="mb-3" data-test="related">
    <v-card-title>Related records</v-card-title>
    <v-card-text>
      <div v-for="each in related" :key="each.link" class="mb-3">
        <div class="d-flex align-center ga-2">
          <strong>{{ each.link }}</strong>
          <router-link
            v-if="each.count > 0"
            :to="{ name: 'records', params: { target, mapping: each.mapping }, query: { where: each.where } }"
            >{{ each.count === each.records.length ? 'as a list' : `all ${each.count}` }}</router-link
          >
          <span v-else class="text-medium-emphasis">none</span>
        </div>
        <ul class="records">
          <li v-for="one in each.records" :key="one.address">
            <router-link :to="recordRoute(target, one.mapping, one.address)">{{ one.label }}</router-link>
          </li>
        </ul>
      </div>
    </v-card-text>
  </v-card>
</template>

<style scoped>
.records {
  padding-inline-start: 1.25rem;
}
</style>
