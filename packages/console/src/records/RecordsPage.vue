<script setup lang="ts">
import {
  mdiBookmarkOutline,
  mdiFileUploadOutline,
  mdiHelpCircleOutline,
  mdiMagnify,
  mdiPencilBoxMultipleOutline,
  mdiPlus,
} from '@mdi/js'
import { computed, nextTick, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { isProblem, printJson, type MappingInfo, type MappingSummary, type RecordValues } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { useLongWork } from '../problems/useLongWork.js'
import ExplainDialog from '../receipts/ExplainDialog.vue'
import ColumnChooser from './ColumnChooser.vue'
import NamedFind from './NamedFind.vue'
import { exampleFilter } from './example-filter.js'
import { paramValues } from '../transactions/param-form.js'
import ExpressionField from './ExpressionField.vue'
import RecordTable from './RecordTable.vue'
import { addressOf, recordRoute } from './record-address.js'
import { useLinkedNames } from './useLinkedNames.js'
import { useListPlace } from './useListPlace.js'
import { useListView } from './useListView.js'
import { useSession } from '../session/useSession.js'

const PAGE_ROWS = 25
const { may } = useSession()
const route = useRoute()
const router = useRouter()
const { place, remember } = useListPlace()
const { view, paths, sorted, show, sortBy } = useListView()
const mappings = ref<MappingSummary[]>([])
/** Whether it is known which there are. */
const isListed = ref(false)
const mapping = ref<MappingInfo | null>(null)
const records = ref<RecordValues[]>([])
/** Whether the rows shown are an answer: how many there are is not told before. */
const isAnswered = ref(false)
const next = ref<string | null>(null)
const count = ref<number | null>(null)
const problem = ref<unknown>(null)
const { isBusy: isLoading, isLong, run, stop } = useLongWork(problem)
const filterProblem = ref<{ detail: string } | null>(null)
const filter = ref('')
const findTexts = ref<Record<string, string>>({})
const isExplaining = ref(false)
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
const finds = computed(() => mapping.value?.definition.finds ?? {})
const namedFind = computed(() => (view.value.find === undefined ? undefined : finds.value[view.value.find]))
/** The parameters that the find cannot do without, and that have no value yet. */
const missing = computed(() =>
  Object.entries(namedFind.value?.params ?? {}).flatMap(([param, { nullable, default: value }]) =>
    !nullable && value === undefined && !view.value.params[param] ? [param] : [],
  ),
)
/** What is looked for: by the filter, or by a find that the mapping names. */
const sought = computed(() =>
  view.value.find === undefined
    ? { where: view.value.where, order: view.value.order }
    : {
        find: view.value.find,
        order: view.value.order,
        params: paramValues(namedFind.value?.params, view.value.params),
      },
)
const find = computed(() => ({
  ...sought.value,
  after: view.value.after,
  limit: PAGE_ROWS,
  // The key comes along, so that a record can be opened whatever is shown.
  properties: paths.value && [...new Set([...paths.value, ...(mapping.value?.key ?? [])])],
}))

watch(target, loadMappings, { immediate: true })
watch(name, chooseOne)
watch([target, name, view], loadPage, { immediate: true })

async function loadMappings() {
  mappings.value = []
  isListed.value = false
  try {
    const of = target.value
    const listed = await client.target(of).mappings()
    // Another target may have been chosen meanwhile.
    if (of !== target.value) return
    mappings.value = listed
    isListed.value = true
    await chooseOne()
  } catch (error) {
    problem.value = error
  }
}

/** Where the address names no mapping, as that of the menu: the one that is shown, else the first. */
async function chooseOne() {
  if (name.value !== undefined || route.name !== 'records') return
  const chosen = mappings.value.find((each) => each.name === mapping.value?.name) ?? mappings.value[0]
  if (chosen) await router.replace({ name: 'records', params: { target: target.value, mapping: chosen.name } })
}

async function loadPage() {
  const mappingName = name.value
  if (mappingName === undefined || route.name !== 'records') return
  filterProblem.value = null
  count.value = null
  filter.value = view.value.where ?? ''
  findTexts.value = view.value.params
  const page = await run(async (signal) => {
    const of = client.target(target.value)
    if (mapping.value?.name !== mappingName) {
      isAnswered.value = false
      records.value = []
      mapping.value = await of.mapping(mappingName)
    }
    return missing.value.length > 0 ? { found: [], next: null } : of.find(mappingName, find.value, signal)
  })
  if (page) {
    records.value = page.found
    isAnswered.value = true
    next.value = page.next
    const shown = addresses.value.flatMap((address) => address ?? [])
    remember(target.value, mappingName, view.value, shown)
    await nextTick()
    document.querySelector('tr.just-changed')?.scrollIntoView({ block: 'nearest' })
  } else if (isProblem(problem.value, 'expression-invalid')) {
    filterProblem.value = problem.value
    problem.value = null
  } else if (problem.value !== null) records.value = []
}

async function countAll() {
  const page = await run(async (signal) => {
    const counting = { ...sought.value, limit: 1, count: 'all' as const }
    return client.target(target.value).find(name.value ?? '', counting, signal)
  })
  if (page) count.value = page.count ?? null
}

function applyFilter() {
  const where = filter.value.trim() || undefined
  if (where === view.value.where) void loadPage()
  else show({ where })
}

/** Begins with the defaults of the find's parameters, and asks at once where that is enough. */
function chooseFind(chosen: string) {
  const params = Object.fromEntries(
    Object.entries(finds.value[chosen]?.params ?? {}).flatMap(([param, { default: value }]) =>
      value === undefined || value === null
        ? []
        : [[param, typeof value === 'string' ? value : printJson(value)] as const],
    ),
  )
  show({ find: chosen, params, where: undefined, order: undefined })
}

function applyFind() {
  show({ params: findTexts.value })
  if (printJson(findTexts.value) === printJson(view.value.params)) void loadPage()
}

function choose(chosen: string | null) {
  if (chosen !== null) void router.push({ name: 'records', params: { target: target.value, mapping: chosen } })
}

function open(address: string) {
  if (mapping.value) void router.push(recordRoute(target.value, mapping.value.name, address))
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Records</h1>
      <v-autocomplete
        auto-select-first
        :model-value="name ?? null"
        :items="mappings.map((each) => each.name)"
        label="Mapping"
        hide-details
        style="min-width: 190px; max-width: 260px"
        data-test="mapping"
        @update:model-value="choose"
      />
      <span v-if="mapping" class="text-medium-emphasis"
        >{{ mapping.table }} · key {{ mapping.key.join(', ') || 'none' }} · guard {{ mapping.guard }}</span
      >
      <v-spacer />
      <v-btn
        v-if="mapping?.properties && may('writer')"
        :prepend-icon="mdiPlus"
        :to="{ name: 'add', params: { target, mapping: mapping.name } }"
        data-test="add"
        >Add</v-btn
      >
      <template v-if="mapping?.properties && may('writer')">
        <v-btn
          v-if="mapping.key.length > 0"
          :prepend-icon="mdiFileUploadOutline"
          :to="{ name: 'from-file', params: { target, mapping: mapping.name } }"
          data-test="from-file"
          >From a file</v-btn
        >
        <v-btn
          v-if="!view.find"
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
      <v-menu v-if="Object.keys(finds).length > 0">
        <template #activator="{ props: activator }">
          <v-btn v-bind="activator" :prepend-icon="mdiBookmarkOutline" data-test="finds">Finds</v-btn>
        </template>
        <v-list density="compact">
          <v-list-item
            v-for="(definition, find_name) in finds"
            :key="find_name"
            :title="String(find_name)"
            :subtitle="definition.where"
            :data-test="`find-${find_name}`"
            @click="chooseFind(String(find_name))"
          />
        </v-list>
      </v-menu>
      <NamedFind
        v-if="view.find && namedFind"
        v-model:texts="findTexts"
        class="flex-grow-1"
        :name="view.find"
        :definition="namedFind"
        @submit="applyFind"
        @close="show({ find: undefined, params: {} })"
      />
      <ExpressionField
        v-else
        :key="mapping.name"
        v-model="filter"
        class="flex-grow-1"
        :names="completions"
        :placeholder="exampleFilter(mapping)"
        :is-wrong="filterProblem !== null"
        @submit="applyFilter"
      />
      <v-btn
        :prepend-icon="mdiMagnify"
        color="primary"
        variant="flat"
        data-test="find"
        @click="view.find ? applyFind() : applyFilter()"
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
      This mapping has no key: its records cannot be told from one another, so they can be looked at, but not changed
      one by one.
    </v-alert>
    <v-alert v-if="mapping?.drift" type="warning" variant="tonal" density="compact" class="mb-3"
      >{{ mapping.drift }}
      <router-link :to="{ name: 'tables', params: { target }, query: { mapping: mapping.name } }"
        >Its definition</router-link
      >
    </v-alert>
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
        <v-btn v-if="isLong" color="primary" data-test="stop" @click="stop">Stop</v-btn>
        <v-spacer />
        <span v-if="missing.length > 0" class="text-medium-emphasis mr-3"
          >Give {{ missing.join(', ') }} to find records.</span
        >
        <span v-else-if="isAnswered" class="text-medium-emphasis mr-3" data-test="rows"
          >{{ records.length }} {{ records.length === 1 && count === null ? 'row' : 'rows'
          }}{{ count === null ? '' : ` of ${count}` }}</span
        >
        <v-btn v-if="count === null" data-test="count" @click="countAll">Count all</v-btn>
        <v-btn :disabled="next === null" data-test="next-page" @click="show({ after: next ?? undefined })"
          >Next page</v-btn
        >
      </v-card-actions>
    </v-card>
    <v-alert v-if="isListed && mappings.length === 0" type="info" variant="tonal" title="No table is mapped yet">
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
