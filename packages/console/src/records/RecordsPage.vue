<script setup lang="ts">
import { mdiFileUploadOutline, mdiHelpCircleOutline, mdiMagnify, mdiPencilBoxMultipleOutline, mdiPlus } from '@mdi/js'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { isProblem, type MappingInfo, type MappingSummary, type RecordValues } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import ExplainDialog from '../receipts/ExplainDialog.vue'
import ColumnChooser from './ColumnChooser.vue'
import ExpressionField from './ExpressionField.vue'
import RecordTable from './RecordTable.vue'
import { addressOf } from './record-address.js'
import { useLinkedNames } from './useLinkedNames.js'
import { useListPlace } from './useListPlace.js'
import { useListView } from './useListView.js'

const PAGE_ROWS = 25
const route = useRoute()
const router = useRouter()
const { place, remember } = useListPlace()
const { view, paths, sorted, show, sortBy } = useListView()
const mappings = ref<MappingSummary[]>([])
const mapping = ref<MappingInfo | null>(null)
const records = ref<RecordValues[]>([])
const next = ref<string | null>(null)
const count = ref<number | null>(null)
const problem = ref<unknown>(null)
const filterProblem = ref<{ detail: string } | null>(null)
const filter = ref('')
const isLoading = ref(false)
const isExplaining = ref(false)
let turns = 0
const target = computed(() => String(route.params['target']))
const name = computed(() => (route.params['mapping'] ? String(route.params['mapping']) : undefined))
const { named, manyLinks } = useLinkedNames(target, mapping)
const shownPaths = computed(() => paths.value ?? mapping.value?.properties?.map((property) => property.name) ?? [])
const columns = computed(() => shownPaths.value.flatMap((path) => named.value.find((each) => each.path === path) ?? []))
const addresses = computed(() => {
  const key = mapping.value?.key ?? []
  return records.value.map((record) => (key.length > 0 ? addressOf(key, record) : undefined))
})
const completions = computed(() => [
  ...named.value.map(({ path, property }) => ({ label: path, detail: property.type })),
  ...manyLinks.value.map((link) => ({ label: link, detail: 'many: exists(…), count(…)' })),
])
const find = computed(() => ({
  where: view.value.where,
  order: view.value.order,
  after: view.value.after,
  limit: PAGE_ROWS,
  // The key comes along, so that a record can be opened whatever is shown.
  properties: paths.value && [...new Set([...paths.value, ...(mapping.value?.key ?? [])])],
}))

watch(target, loadMappings, { immediate: true })
watch([target, name, view], loadPage, { immediate: true })

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
  const turn = ++turns
  isLoading.value = true
  problem.value = null
  filterProblem.value = null
  count.value = null
  filter.value = view.value.where ?? ''
  try {
    const of = client.target(target.value)
    if (mapping.value?.name !== name.value) mapping.value = await of.mapping(name.value)
    const page = await of.find(name.value, find.value)
    // An answer that comes after a later question is no answer any more.
    if (turn !== turns) return
    records.value = page.found
    next.value = page.next
    remember(
      target.value,
      name.value,
      view.value,
      addresses.value.flatMap((address) => address ?? []),
    )
    await nextTick()
    document.querySelector('tr.just-changed')?.scrollIntoView({ block: 'nearest' })
  } catch (error) {
    if (isProblem(error, 'expression-invalid')) filterProblem.value = error
    else {
      problem.value = error
      records.value = []
    }
    if (isProblem(error, 'unauthenticated')) await router.push({ name: 'sign-in', query: { to: route.fullPath } })
  } finally {
    isLoading.value = false
  }
}

async function countAll() {
  try {
    const page = await client
      .target(target.value)
      .find(name.value ?? '', { where: view.value.where, limit: 1, count: 'all' })
    count.value = page.count ?? null
  } catch (error) {
    problem.value = error
  }
}

function applyFilter() {
  const where = filter.value.trim() || undefined
  if (where === view.value.where) void loadPage()
  else show({ where })
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
      <template v-if="mapping?.properties">
        <v-btn
          v-if="mapping.key.length > 0"
          :prepend-icon="mdiFileUploadOutline"
          :to="{ name: 'from-file', params: { target, mapping: mapping.name } }"
          data-test="from-file"
          >From a file</v-btn
        >
        <v-btn
          :prepend-icon="mdiPencilBoxMultipleOutline"
          :to="{
            name: 'change-all',
            params: { target, mapping: mapping.name },
            query: view.where ? { where: view.where } : {},
          }"
          data-test="change-all"
          >{{ view.where ? 'Change all that match' : 'Change all' }}</v-btn
        >
      </template>
    </div>
    <div v-if="mapping?.properties" class="d-flex align-center ga-2 mb-3">
      <ExpressionField
        v-model="filter"
        class="flex-grow-1"
        :names="completions"
        placeholder="hoursLeft < 5 and lead.familyName = 'Brandt'"
        :is-wrong="filterProblem !== null"
        @submit="applyFilter"
      />
      <v-btn :prepend-icon="mdiMagnify" color="primary" variant="flat" data-test="find" @click="applyFilter"
        >Find</v-btn
      >
      <ColumnChooser
        :named="named"
        :chosen="shownPaths"
        @choose="(chosen) => show({ properties: chosen?.join(','), after: view.after })"
      />
      <v-btn :prepend-icon="mdiHelpCircleOutline" data-test="explain" @click="isExplaining = true">Explain</v-btn>
    </div>
    <pre v-if="filterProblem" class="mono text-error mb-3 wrong" role="alert" data-test="filter-problem">{{
      filterProblem.detail
    }}</pre>
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
        :columns="columns"
        :records="records"
        :addresses="addresses"
        :changed="place.changed"
        :sorted="sorted"
        @open="open"
        @sort="sortBy"
      />
      <v-card-actions>
        <v-btn v-if="view.after" data-test="first-page" @click="show({})">First page</v-btn>
        <v-spacer />
        <span class="text-medium-emphasis mr-3" data-test="rows"
          >{{ records.length }} rows{{ count === null ? '' : ` of ${count}` }}</span
        >
        <v-btn v-if="count === null" data-test="count" @click="countAll">Count all</v-btn>
        <v-btn :disabled="next === null" data-test="next-page" @click="show({ after: next ?? undefined })"
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
      Derive a mapping from a table and publish it, on the page
      <router-link :to="{ name: 'tables', params: { target } }">Tables</router-link>.
    </v-alert>
    <ExplainDialog v-model="isExplaining" :explain="() => client.target(target).explainFind(name ?? '', find)" />
  </v-container>
</template>

<style scoped>
.wrong {
  white-space: pre-wrap;
}
</style>
