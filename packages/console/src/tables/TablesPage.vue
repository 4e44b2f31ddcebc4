<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { DerivedMapping, MappingInfo, TableInfo, TableSummary } from '@ledgerman/contract'
import { client } from '../client.js'
import DefinitionEditor from '../definitions/DefinitionEditor.vue'
import ProblemAlert from '../problems/ProblemAlert.vue'
import TableDetails from './TableDetails.vue'
import TablesPicture from './TablesPicture.vue'

const route = useRoute()
const router = useRouter()
const tables = ref<TableSummary[]>([])
const table = ref<TableInfo | null>(null)
const mapping = ref<MappingInfo | null>(null)
const derived = ref<DerivedMapping | null>(null)
const problem = ref<unknown>(null)
const tab = ref('columns')
const target = computed(() => String(route.params['target']))
const selected = computed(() => (typeof route.query['table'] === 'string' ? route.query['table'] : null))
const summary = computed(() => tables.value.find(({ schema, name }) => `${schema}.${name}` === selected.value))

watch(target, loadTables, { immediate: true })
watch([selected, tables], loadTable)

async function loadTables() {
  await attempt(async () => {
    tables.value = await client.target(target.value).tables()
  })
}

async function loadTable() {
  derived.value = null
  const chosen = summary.value
  if (!chosen) return
  await attempt(async () => {
    const of = client.target(target.value)
    const [published] = chosen.mappings
    const [info, known] = await Promise.all([
      of.table(chosen.schema, chosen.name),
      published === undefined ? null : of.mapping(published),
    ])
    table.value = info
    mapping.value = known
  })
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

function select(path: string) {
  void router.replace({ query: { table: path } })
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Tables</h1>
      <span class="text-medium-emphasis"
        >{{ tables.length }} tables, {{ tables.filter((each) => each.mappings.length > 0).length }} mapped. An arrow
        leads to the table a foreign key refers to.</span
      >
    </div>
    <ProblemAlert :problem="problem" class="mb-3" />
    <v-row>
      <v-col cols="12" :md="summary ? 6 : 12">
        <v-card
          ><TablesPicture v-if="tables.length > 0" :key="target" :tables="tables" :selected="selected" @select="select"
        /></v-card>
      </v-col>
      <v-col v-if="summary && table" cols="12" md="6">
        <v-card>
          <div class="d-flex align-center ga-2 pa-3">
            <h2 data-test="table-title">{{ selected }}</h2>
            <span class="text-medium-emphasis small-note"
              >{{ table.kind }}{{ table.approximateRows === null ? '' : `, about ${table.approximateRows} rows` }}</span
            >
            <v-spacer />
            <v-btn v-if="mapping" size="small" :to="{ name: 'records', params: { target, mapping: mapping.name } }"
              >Records</v-btn
            >
            <v-btn size="small" data-test="derive" @click="derive">Derive a mapping</v-btn>
          </div>
          <v-alert v-if="summary.cannotChange" type="warning" variant="tonal" density="compact" class="mx-3 mb-2"
            >Its records cannot be changed by key: {{ summary.cannotChange }}.</v-alert
          >
          <v-tabs v-model="tab" density="compact">
            <v-tab value="columns">Columns</v-tab>
            <v-tab value="mapping" :disabled="!mapping && !derived" data-test="tab-mapping">Mapping</v-tab>
          </v-tabs>
          <TableDetails v-if="tab === 'columns'" :table="table" @select="select" />
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
            <DefinitionEditor
              v-if="mapping || derived"
              :key="derived ? 'derived' : 'published'"
              :target="target"
              kind="mapping"
              :name="mapping?.name ?? ''"
              :source="derived?.source ?? mapping?.source ?? ''"
              :revision="derived ? 0 : (mapping?.revision ?? 0)"
              @published="loadTables"
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
