<script setup lang="ts">
import { mdiMagnify } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { countOf } from '@ledgerman/client'
import type { DerivedMapping, MappingInfo, TableInfo, TableSummary } from '@ledgerman/contract'
import { client } from '../client.js'
import DefinitionEditor from '../definitions/DefinitionEditor.vue'
import ProblemAlert from '../problems/ProblemAlert.vue'
import TableDetails from './TableDetails.vue'
import TablesGrid from './TablesGrid.vue'
import TablesPicture from './TablesPicture.vue'
import { neighboursOf, pathOf } from './arrange-tables.js'
import { useGuide } from '../guide/useGuide.js'
import { useSession } from '../session/useSession.js'

/** With more tables than this, arrows are drawn for one of them and its neighbours only. */
const MOST_DRAWN = 60
const { may } = useSession()
const route = useRoute()
const router = useRouter()
const tables = ref<TableSummary[]>([])
const isAnswered = ref(false)
const table = ref<TableInfo | null>(null)
const mapping = ref<MappingInfo | null>(null)
const derived = ref<DerivedMapping | null>(null)
const problem = ref<unknown>(null)
const tab = ref('columns')
const target = computed(() => String(route.params['target']))
const asked = (name: string) => computed(() => (typeof route.query[name] === 'string' ? route.query[name] : null))
const [askedTable, askedMapping] = [asked('table'), asked('mapping')]
const summary = computed(() =>
  tables.value.find((each) =>
    askedTable.value === null
      ? askedMapping.value !== null && each.mappings.includes(askedMapping.value)
      : pathOf(each) === askedTable.value,
  ),
)
/** The table that is looked at, or, where there is none any more, that of the mapping that is. */
const selected = computed(() => (summary.value ? pathOf(summary.value) : (mapping.value?.table ?? null)))
const search = ref<string | null>('')
const schema = ref<string | null>(null)
const isNear = ref(false)
const schemas = computed(() => [...new Set(tables.value.map((each) => each.schema))])
/** What the picture shows: a table and its neighbours, or all that are searched for. */
const shown = computed(() => {
  if (isNear.value && summary.value) return neighboursOf(tables.value, pathOf(summary.value))
  const wanted = (search.value ?? '').trim().toLowerCase()
  return tables.value.filter(
    (each) => (schema.value === null || each.schema === schema.value) && pathOf(each).toLowerCase().includes(wanted),
  )
})
/** Another choice is another picture, drawn to fit. */
const pictureKey = computed(() => `${target.value} ${shown.value.map(pathOf).join(' ')}`)

const { did } = useGuide()

watch(tab, (now) => now === 'mapping' && did('mapping'))
watch(target, loadTables, { immediate: true })
watch([askedTable, askedMapping, tables], loadTable)

async function loadTables() {
  await attempt(async () => {
    tables.value = await client.target(target.value).tables()
    isAnswered.value = true
  })
}

async function loadTable() {
  derived.value = null
  if (!isAnswered.value) return
  const [chosen, wanted] = [summary.value, askedMapping.value]
  await attempt(async () => {
    const of = client.target(target.value)
    const name = wanted ?? chosen?.mappings[0]
    const [info, known] = await Promise.all([
      chosen ? of.table(chosen.schema, chosen.name) : null,
      name === undefined ? null : of.mapping(name),
    ])
    if (chosen !== summary.value || wanted !== askedMapping.value) return
    table.value = info
    mapping.value = known
    if (info) did('table')
    if (wanted !== null) tab.value = 'mapping'
  })
}

function choose(name: string | null) {
  void router.replace({ query: { ...route.query, mapping: name } })
}

async function published(name: string) {
  if (name !== mapping.value?.name) choose(name)
  await loadTables()
}

async function withdrawn() {
  tab.value = 'columns'
  await router.replace({ query: summary.value ? { table: pathOf(summary.value) } : {} })
  await loadTables()
}

async function derive() {
  const chosen = summary.value
  if (!chosen) return
  await attempt(async () => {
    derived.value = await client.target(target.value).deriveMapping(chosen.schema, chosen.name)
    tab.value = 'mapping'
  })
}

async function attempt(work: () => Promise<void>) {
  problem.value = null
  try {
    await work()
  } catch (error) {
    problem.value = error
  }
}

/** Out of many tables: it is shown with its neighbours. */
function selectNear(path: string) {
  isNear.value = true
  select(path)
}

function select(path: string) {
  void router.replace({ query: { table: path } })
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Tables</h1>
      <span v-if="isAnswered" class="text-medium-emphasis"
        >{{ countOf(tables.length, 'table') }}, {{ tables.filter((each) => each.mappings.length > 0).length }} mapped.
        {{
          shown.length > MOST_DRAWN
            ? 'Choose one to see its keys and neighbours.'
            : 'An arrow leads to the table a foreign key refers to.'
        }}</span
      >
    </div>
    <ProblemAlert :problem="problem" class="mb-3" />
    <div v-if="tables.length > 0" class="d-flex align-center ga-3 mb-3">
      <v-text-field
        v-model="search"
        label="Search tables"
        :prepend-inner-icon="mdiMagnify"
        :disabled="isNear"
        hide-details
        clearable
        style="max-width: 280px"
        data-test="search-tables"
      />
      <v-select
        v-if="schemas.length > 1"
        v-model="schema"
        :items="schemas"
        label="Schema"
        :disabled="isNear"
        clearable
        hide-details
        style="max-width: 220px"
      />
      <v-switch
        v-model="isNear"
        :disabled="!summary"
        :label="summary ? `Only ${summary.name} and its neighbours` : 'Only one table and its neighbours'"
        color="primary"
        density="compact"
        hide-details
        data-test="near"
      />
      <v-spacer />
      <span v-if="shown.length < tables.length" class="text-medium-emphasis">{{ shown.length }} shown</span>
    </div>
    <v-row>
      <v-col v-if="tables.length > 0" cols="12" :md="(summary ?? askedMapping) ? 6 : 12">
        <v-card
          ><TablesGrid
            v-if="shown.length > MOST_DRAWN"
            :tables="shown"
            :selected="selected"
            @select="selectNear"
          /><TablesPicture
            v-else-if="shown.length > 0"
            :key="pictureKey"
            :tables="shown"
            :selected="selected"
            @select="select"
          /><v-card-text v-else-if="tables.length > 0">No table fits.</v-card-text></v-card
        >
      </v-col>
      <v-col v-if="table ?? mapping" cols="12" md="6">
        <v-card>
          <div class="d-flex align-center ga-2 pa-3">
            <h2 data-test="table-title">{{ selected }}</h2>
            <span v-if="table" class="text-medium-emphasis small-note"
              >{{ table.kind }}{{ table.approximateRows === null ? '' : `, about ${table.approximateRows} rows` }}</span
            >
            <v-spacer />
            <v-btn
              v-if="mapping && !mapping.drift"
              size="small"
              :to="{ name: 'records', params: { target, mapping: mapping.name } }"
              >Records</v-btn
            >
            <v-btn v-if="summary && may('author')" size="small" data-test="derive" @click="derive"
              >Derive a mapping</v-btn
            >
          </div>
          <v-alert v-if="summary?.cannotChange" type="warning" variant="tonal" density="compact" class="mx-3 mb-2"
            >Its records cannot be changed by key: {{ summary.cannotChange }}.</v-alert
          >
          <v-tabs v-model="tab" density="compact">
            <v-tab value="columns" :disabled="!table">Columns</v-tab>
            <v-tab value="mapping" :disabled="!mapping && !derived" data-test="tab-mapping">Mapping</v-tab>
          </v-tabs>
          <TableDetails v-if="tab === 'columns' && table" :table="table" @select="select" />
          <div v-else class="pa-3">
            <v-alert
              v-for="note in derived?.notes ?? []"
              :key="note"
              type="info"
              variant="tonal"
              density="compact"
              class="mb-2"
              >{{ note }}</v-alert
            >
            <v-alert v-if="mapping?.drift" type="warning" variant="tonal" density="compact" class="mb-2">{{
              mapping.drift
            }}</v-alert>
            <v-select
              v-if="!derived && summary && summary.mappings.length > 1"
              :model-value="mapping?.name ?? null"
              :items="summary.mappings"
              label="Mapping"
              hide-details
              class="mb-3"
              style="max-width: 280px"
              data-test="choose-mapping"
              @update:model-value="choose"
            />
            <DefinitionEditor
              v-if="mapping || derived"
              :key="derived ? 'derived' : (mapping?.name ?? '')"
              :target="target"
              kind="mapping"
              :name="mapping?.name ?? ''"
              :source="derived?.source ?? mapping?.source ?? ''"
              :revision="derived ? 0 : (mapping?.revision ?? 0)"
              @published="published"
              @withdrawn="withdrawn"
            />
          </div>
        </v-card>
      </v-col>
    </v-row>
  </v-container>
</template>

<style scoped>
h2 {
  font-size: 1.1rem;
  font-weight: 600;
}
</style>
