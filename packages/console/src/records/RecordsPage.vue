<script setup lang="ts">
import { mdiPlus } from '@mdi/js'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { isProblem, type MappingInfo, type MappingSummary, type RecordValues } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import RecordTable from './RecordTable.vue'
import { addressOf } from './record-address.js'
import { useListPlace } from './useListPlace.js'

const PAGE_ROWS = 25
const route = useRoute()
const router = useRouter()
const { place, remember } = useListPlace()
const mappings = ref<MappingSummary[]>([])
const mapping = ref<MappingInfo | null>(null)
const records = ref<RecordValues[]>([])
const next = ref<string | null>(null)
const problem = ref<unknown>(null)
const isLoading = ref(false)
const target = computed(() => String(route.params['target']))
const name = computed(() => (route.params['mapping'] ? String(route.params['mapping']) : undefined))
const after = computed(() => (route.query['after'] === undefined ? undefined : String(route.query['after'])))
const addresses = computed(() => records.value.map((record) => addressOf(mapping.value?.key ?? [], record)))

watch(target, loadMappings, { immediate: true })
watch([target, name, after], loadPage, { immediate: true })

async function loadMappings() {
  try {
    mappings.value = await client.target(target.value).mappings()
    const first = mappings.value[0]
    if (name.value === undefined && first) await router.replace({ params: { mapping: first.name } })
  } catch (error) {
    problem.value = error
  }
}

async function loadPage() {
  if (name.value === undefined || route.name !== 'records') return
  isLoading.value = true
  problem.value = null
  try {
    const of = client.target(target.value)
    const [info, page] = await Promise.all([
      of.mapping(name.value),
      of.find(name.value, { limit: PAGE_ROWS, after: after.value }),
    ])
    mapping.value = info
    records.value = page.found
    next.value = page.next
    remember(target.value, info.name, after.value, addresses.value)
    await nextTick()
    document.querySelector('tr.just-changed')?.scrollIntoView({ block: 'nearest' })
  } catch (error) {
    problem.value = error
    records.value = []
    if (isProblem(error, 'unauthenticated')) await router.push({ name: 'sign-in', query: { to: route.fullPath } })
  } finally {
    isLoading.value = false
  }
}

function choose(chosen: string | null) {
  if (chosen !== null) void router.push({ name: 'records', params: { target: target.value, mapping: chosen } })
}

function open(address: string) {
  void router.push({ name: 'record', params: { target: target.value, mapping: name.value ?? '', key: address } })
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Records</h1>
      <v-select
        :model-value="name ?? null"
        :items="mappings.map((each) => each.name)"
        label="Mapping"
        hide-details
        style="max-width: 260px"
        data-test="mapping"
        @update:model-value="choose"
      />
      <span v-if="mapping" class="text-medium-emphasis"
        >{{ mapping.table }} · key {{ mapping.key.join(', ') || 'none' }} · guard {{ mapping.guard }}</span
      >
      <v-spacer />
      <v-btn
        v-if="mapping?.properties"
        :prepend-icon="mdiPlus"
        :to="{ name: 'add', params: { target, mapping: mapping.name } }"
        data-test="add"
        >Add</v-btn
      >
    </div>
    <ProblemAlert :problem="problem" class="mb-3" />
    <v-alert
      v-if="mapping && mapping.key.length === 0 && !problem"
      type="info"
      variant="tonal"
      density="compact"
      class="mb-3"
    >
      This table has no unique key without nulls: one record cannot be told from another, so records can be looked at,
      but not changed one by one.
    </v-alert>
    <v-alert v-if="mapping?.drift" type="warning" variant="tonal" density="compact" class="mb-3">{{
      mapping.drift
    }}</v-alert>
    <v-card v-if="mapping?.properties && !problem" :loading="isLoading">
      <RecordTable
        :properties="mapping.properties"
        :records="records"
        :addresses="addresses"
        :changed="place.changed"
        :is-openable="mapping.key.length > 0"
        @open="open"
      />
      <v-card-actions>
        <v-btn v-if="after" :to="{ query: {} }">First page</v-btn>
        <v-spacer />
        <span class="text-medium-emphasis mr-3">{{ records.length }} rows</span>
        <v-btn
          :disabled="next === null"
          :to="next === null ? undefined : { query: { after: next } }"
          data-test="next-page"
          >Next page</v-btn
        >
      </v-card-actions>
    </v-card>
    <v-alert
      v-if="mappings.length === 0 && !problem && !isLoading"
      type="info"
      variant="tonal"
      title="No table is mapped yet"
    >
      Derive and publish a mapping: <span class="mono">ledgerman map TABLE --save</span>
    </v-alert>
  </v-container>
</template>
