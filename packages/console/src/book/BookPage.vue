<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { keyToText } from '@ledgerman/client'
import type { EntrySummary } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import EntryFilter from './EntryFilter.vue'
import { formatInstant } from './format-instant.js'

const FILTERS = ['outcome', 'mapping', 'transaction', 'actor', 'from'] as const
const route = useRoute()
const router = useRouter()
const target = computed(() => String(route.params['target']))
/** What entries are narrowed by, as it stands in the address. */
const filter = computed(() =>
  Object.fromEntries(
    FILTERS.flatMap((name) => {
      const value = route.query[name]
      return typeof value === 'string' && value !== '' ? [[name, value]] : []
    }),
  ),
)
const outcome = computed(() => filter.value['outcome'] ?? null)
const after = computed(() => (route.query['after'] === undefined ? undefined : String(route.query['after'])))
const entries = ref<EntrySummary[]>([])
const next = ref<string | null>(null)
const problem = ref<unknown>(null)
const isLoading = ref(true)

watch([target, () => JSON.stringify(filter.value), after], load, { immediate: true })

async function load() {
  isLoading.value = true
  problem.value = null
  try {
    const page = await client.target(target.value).entries({ ...filter.value, after: after.value, limit: 25 })
    entries.value = page.entries
    next.value = page.next
  } catch (error) {
    problem.value = error
    entries.value = []
  } finally {
    isLoading.value = false
  }
}

function open(entry: EntrySummary) {
  void router.push({ name: 'entry', params: { target: target.value, entry: entry.id } })
}

/** Narrows by something else as well, from the newest on; undefined takes a part away. */
function narrow(part: Record<string, string | undefined>) {
  void router.push({ query: { ...filter.value, ...part } })
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Book</h1>
      <v-btn-toggle :model-value="outcome ?? 'all'" density="compact" mandatory variant="outlined" divided>
        <v-btn value="all" size="small" @click="narrow({ outcome: undefined })">All</v-btn>
        <v-btn value="committed" size="small" @click="narrow({ outcome: 'committed' })">Committed</v-btn>
        <v-btn value="refused" size="small" @click="narrow({ outcome: 'refused' })">Refused</v-btn>
        <v-btn v-if="outcome && !/^(committed|refused)$/.test(outcome)" :value="outcome" size="small">{{
          outcome
        }}</v-btn>
      </v-btn-toggle>
      <EntryFilter :target="target" :filter="filter" @narrow="narrow" />
    </div>
    <ProblemAlert :problem="problem" class="mb-3" />
    <v-card v-if="!problem" :loading="isLoading">
      <v-table density="compact" hover data-test="entries">
        <thead>
          <tr>
            <th>At (UTC)</th>
            <th>Actor</th>
            <th>Outcome</th>
            <th>What</th>
            <th>Record or condition</th>
            <th class="number">Matched</th>
            <th class="number">Changed</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="entry in entries"
            :key="entry.id"
            class="openable"
            tabindex="0"
            @click="open(entry)"
            @keydown.enter="open(entry)"
          >
            <td class="text-no-wrap">{{ formatInstant(entry.at) }}</td>
            <td>{{ entry.actor }}</td>
            <td>
              <v-chip :color="entry.outcome === 'committed' ? 'success' : 'error'" size="small" label>{{
                entry.problem ?? entry.outcome
              }}</v-chip>
            </td>
            <td>{{ entry.kind }} {{ entry.mapping ?? entry.transaction }}</td>
            <td v-if="entry.key">{{ keyToText(entry.key) }}</td>
            <td v-else class="condition" :title="entry.condition ?? undefined">{{ entry.condition }}</td>
            <td class="number">{{ entry.matched ?? '–' }}</td>
            <td class="number">{{ entry.changed ?? '–' }}</td>
          </tr>
          <tr v-if="!isLoading && entries.length === 0">
            <td colspan="7" class="text-medium-emphasis py-6">
              {{
                Object.keys(filter).length > 0
                  ? 'No entry is like that.'
                  : 'Nothing is in the book yet. Commit a change, and it will be.'
              }}
            </td>
          </tr>
        </tbody>
      </v-table>
      <v-card-actions>
        <v-btn v-if="after" @click="router.back()">Newer</v-btn>
        <v-spacer />
        <v-btn v-if="next" @click="narrow({ after: next })">Older</v-btn>
      </v-card-actions>
    </v-card>
  </v-container>
</template>

<style scoped>
.condition {
  max-width: 320px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
}
</style>
