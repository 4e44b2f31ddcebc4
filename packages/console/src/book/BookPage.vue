<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { EntrySummary } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { formatInstant } from './format-instant.js'

const route = useRoute()
const router = useRouter()
const target = computed(() => String(route.params['target']))
const outcome = computed(() => (route.query['outcome'] === undefined ? null : String(route.query['outcome'])))
const after = computed(() => (route.query['after'] === undefined ? undefined : String(route.query['after'])))
const entries = ref<EntrySummary[]>([])
const next = ref<string | null>(null)
const problem = ref<unknown>(null)
const isLoading = ref(true)

watch([target, outcome, after], load, { immediate: true })

async function load() {
  isLoading.value = true
  problem.value = null
  try {
    const page = await client
      .target(target.value)
      .entries({ outcome: outcome.value ?? undefined, after: after.value, limit: 25 })
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

function show(query: Record<string, string>) {
  void router.push({ query })
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Book</h1>
      <v-btn-toggle :model-value="outcome ?? 'all'" density="compact" mandatory variant="outlined" divided>
        <v-btn value="all" size="small" @click="show({})">All</v-btn>
        <v-btn value="committed" size="small" @click="show({ outcome: 'committed' })">Committed</v-btn>
        <v-btn value="refused" size="small" @click="show({ outcome: 'refused' })">Refused</v-btn>
      </v-btn-toggle>
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
            <th>Record</th>
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
            <td>{{ Object.values(entry.key ?? {}).join(', ') }}</td>
            <td class="number">{{ entry.matched ?? '–' }}</td>
            <td class="number">{{ entry.changed ?? '–' }}</td>
          </tr>
          <tr v-if="!isLoading && entries.length === 0">
            <td colspan="7" class="text-medium-emphasis py-6">
              Nothing is in the book yet. Commit a change, and it will be.
            </td>
          </tr>
        </tbody>
      </v-table>
      <v-card-actions>
        <v-btn v-if="after" @click="router.back()">Newer</v-btn>
        <v-spacer />
        <v-btn v-if="next" @click="show({ ...(outcome ? { outcome } : {}), after: next })">Older</v-btn>
      </v-card-actions>
    </v-card>
  </v-container>
</template>
