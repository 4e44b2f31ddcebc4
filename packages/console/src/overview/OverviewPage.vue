<script setup lang="ts">
import { mdiAlertOutline, mdiCheckCircleOutline } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter, type RouteLocationRaw } from 'vue-router'
import { toRecordAddress, type EntrySummary, type Overview } from '@ledgerman/contract'
import { recordRoute } from '../records/record-address.js'
import { formatInstant } from '../book/format-instant.js'
import { client } from '../client.js'
import { useGuide } from '../guide/useGuide.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import HourChart from './HourChart.vue'

/** The first page of a target: what needs attention, what happens, where to go on. */
const route = useRoute()
const router = useRouter()
const guide = useGuide()
const target = computed(() => String(route.params['target']))
const overview = ref<Overview | null>(null)
const entries = ref<EntrySummary[]>([])
const problem = ref<unknown>(null)
const isQuiet = computed(() => overview.value !== null && overview.value.looked.entries === 0)

watch(target, () => void open(), { immediate: true })

async function open() {
  problem.value = null
  overview.value = null
  entries.value = []
  const api = client.target(target.value)
  try {
    overview.value = await api.overview()
    // A target without a book has none.
    entries.value = (await api.entries({ limit: 8 }).catch(() => ({ entries: [] }))).entries
  } catch (error) {
    problem.value = error
  }
}

function beginGuide() {
  guide.begin()
  void router.push({ name: 'tables', params: { target: target.value } })
}

function placeOf({ kind, about }: Overview['attention'][number]): RouteLocationRaw | undefined {
  const params = { target: target.value }
  switch (kind) {
    case 'mapping':
      return { name: 'tables', params, query: { mapping: about } }
    case 'transaction':
      return { name: 'transactions', params: { ...params, transaction: about ?? '' } }
    case 'waits':
      return { name: 'waits', params }
    case 'job':
      return { name: 'job', params: { ...params, job: about ?? '' } }
    case 'refusals':
      return { name: 'book', params, query: { outcome: about } }
    default:
      return undefined
  }
}

function definitionPlace({ name, kind }: Overview['busiest']['definitions'][number]): RouteLocationRaw {
  return kind === 'mapping'
    ? { name: 'records', params: { target: target.value, mapping: name } }
    : { name: 'transactions', params: { target: target.value, transaction: name } }
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-3 mb-3">
      <h1>{{ target }}</h1>
      <span v-if="overview && overview.looked.entries > 0" class="text-medium-emphasis"
        >the last 24 hours, in UTC{{
          overview.looked.entries >= 50000 ? `, of which the newest ${overview.looked.entries} entries` : ''
        }}</span
      >
      <v-spacer />
      <v-btn v-if="overview && !isQuiet" size="small" data-test="begin-guide" @click="beginGuide">Guide me</v-btn>
    </div>
    <ProblemAlert :problem="problem" class="mb-3"
      ><v-btn size="small" class="mt-2" @click="open">Try again</v-btn></ProblemAlert
    >
    <template v-if="overview">
      <v-card class="mb-4" data-test="attention">
        <v-card-text v-if="overview.attention.length === 0" class="d-flex align-center ga-2">
          <v-icon :icon="mdiCheckCircleOutline" color="success" />Nothing needs attention.
        </v-card-text>
        <v-list v-else density="compact" role="group" aria-label="What needs attention">
          <v-list-item
            v-for="(each, at) in overview.attention"
            :key="at"
            :to="placeOf(each)"
            :prepend-icon="mdiAlertOutline"
            :title="each.message"
            class="attention"
          />
        </v-list>
      </v-card>
      <v-card v-if="isQuiet" class="mb-4" data-test="begin">
        <v-card-title>A first visit</v-card-title>
        <v-card-text>
          <p>
            Choose a table, see its mapping, change a record in rehearsal, read what would differ, commit it, find it in
            the book, and put it back: about two minutes.
          </p>
          <v-btn color="primary" variant="flat" class="mt-3" data-test="begin-guide" @click="beginGuide"
            >Guide me</v-btn
          >
        </v-card-text>
      </v-card>
      <v-row v-if="!isQuiet">
        <v-col cols="12" md="6">
          <v-card data-test="runs-chart">
            <v-card-title>Runs per hour</v-card-title>
            <v-card-text><HourChart :hours="overview.hours" :of="['committed', 'refused']" /></v-card-text>
          </v-card>
        </v-col>
        <v-col cols="12" md="6">
          <v-card data-test="rows-chart">
            <v-card-title>Rows changed per hour</v-card-title>
            <v-card-text><HourChart :hours="overview.hours" :of="['rows']" /></v-card-text>
          </v-card>
        </v-col>
        <v-col cols="12" lg="6">
          <v-card data-test="recent" class="recent">
            <v-card-title>Recent entries</v-card-title>
            <v-table density="compact">
              <tbody>
                <tr v-for="entry in entries" :key="entry.id">
                  <td class="text-no-wrap">
                    <router-link :to="{ name: 'entry', params: { target, entry: entry.id } }">{{
                      formatInstant(entry.at)
                    }}</router-link>
                  </td>
                  <td>{{ entry.actor }}</td>
                  <td class="text-no-wrap" :class="{ 'text-error': entry.outcome === 'refused' }">
                    {{ entry.problem ?? entry.outcome }}
                  </td>
                  <td class="text-no-wrap">{{ entry.transaction ?? `${entry.kind} ${entry.mapping ?? ''}` }}</td>
                  <td class="text-right">{{ entry.changed ?? '' }}</td>
                </tr>
              </tbody>
            </v-table>
          </v-card>
        </v-col>
        <v-col cols="12" sm="6" lg="3">
          <v-card data-test="busiest">
            <v-card-title>Busiest</v-card-title>
            <v-table density="compact">
              <tbody>
                <tr v-for="each in overview.busiest.definitions" :key="each.kind + each.name">
                  <td>
                    <router-link :to="definitionPlace(each)">{{ each.name }}</router-link>
                  </td>
                  <td class="text-right text-no-wrap">{{ each.runs }} {{ each.runs === 1 ? 'run' : 'runs' }}</td>
                </tr>
              </tbody>
            </v-table>
          </v-card>
        </v-col>
        <v-col cols="12" sm="6" lg="3">
          <v-card data-test="busiest-records">
            <v-card-title>Busy records</v-card-title>
            <v-table density="compact">
              <tbody>
                <tr v-for="each in overview.busiest.records" :key="each.mapping + each.key.join()">
                  <td>
                    <router-link :to="recordRoute(target, each.mapping, toRecordAddress(each.key))"
                      >{{ each.mapping }} {{ each.key.join(', ') }}</router-link
                    >
                  </td>
                  <td class="text-right">{{ each.changes }}</td>
                </tr>
              </tbody>
            </v-table>
          </v-card>
        </v-col>
      </v-row>
    </template>
  </v-container>
</template>

<style scoped>
.recent :deep(td) {
  padding-inline: 10px !important;
}
.attention :deep(.v-list-item-title) {
  white-space: normal;
  font-size: 0.9375rem;
  letter-spacing: normal;
}
</style>
