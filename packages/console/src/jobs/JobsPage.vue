<script setup lang="ts">
import { computed, onBeforeUnmount, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { Job, JobState } from '@ledgerman/contract'
import { formatInstant } from '../book/format-instant.js'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { describeJob, describeProgress, STATE_COLORS } from './describe-job.js'

/** How often the list is asked for again while something in it goes on, in milliseconds. */
const REFRESH_MS = 1_000
const STATES: { title: string; value: JobState | 'all' }[] = [
  { title: 'All', value: 'all' },
  { title: 'Running', value: 'running' },
  { title: 'Done', value: 'done' },
  { title: 'Failed', value: 'failed' },
  { title: 'Cancelled', value: 'cancelled' },
]
const route = useRoute()
const router = useRouter()
const target = computed(() => String(route.params['target']))
const state = computed(() =>
  route.query['state'] === undefined ? undefined : (String(route.query['state']) as JobState),
)
const after = computed(() => (route.query['after'] === undefined ? undefined : String(route.query['after'])))
const jobs = ref<Job[]>([])
const next = ref<string | null>(null)
const problem = ref<unknown>(null)
const isLoading = ref(true)
let timer: number | undefined

watch([target, state, after], () => void load(), { immediate: true })
onBeforeUnmount(() => window.clearTimeout(timer))

async function load() {
  window.clearTimeout(timer)
  problem.value = null
  try {
    const page = await client.jobs({ target: target.value, state: state.value, after: after.value, limit: 25 })
    jobs.value = page.jobs
    next.value = page.next
    if (page.jobs.some((job) => job.state === 'queued' || job.state === 'running'))
      timer = window.setTimeout(() => void load(), REFRESH_MS)
  } catch (error) {
    problem.value = error
    jobs.value = []
  } finally {
    isLoading.value = false
  }
}

function open({ id }: Job) {
  void router.push({ name: 'job', params: { target: target.value, job: id } })
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Jobs</h1>
      <v-btn-toggle :model-value="state ?? 'all'" density="compact" mandatory variant="outlined" divided>
        <v-btn
          v-for="each in STATES"
          :key="each.value"
          :value="each.value"
          size="small"
          @click="router.push({ query: each.value === 'all' ? {} : { state: each.value } })"
          >{{ each.title }}</v-btn
        >
      </v-btn-toggle>
      <span class="text-medium-emphasis">changes of many records, by condition or from a file</span>
    </div>
    <ProblemAlert :problem="problem" class="mb-3" />
    <v-card v-if="!problem" :loading="isLoading">
      <v-table density="compact" hover data-test="jobs">
        <thead>
          <tr>
            <th>Begun (UTC)</th>
            <th>Actor</th>
            <th>State</th>
            <th>What</th>
            <th class="number">Matched</th>
            <th class="number">Changed</th>
            <th>Problem or progress</th>
          </tr>
        </thead>
        <tbody>
          <tr
            v-for="job in jobs"
            :key="job.id"
            class="openable"
            tabindex="0"
            @click="open(job)"
            @keydown.enter="open(job)"
          >
            <td class="text-no-wrap">{{ job.startedAt === null ? '' : formatInstant(job.startedAt) }}</td>
            <td>{{ job.actor }}</td>
            <td>
              <v-chip :color="STATE_COLORS[job.state]" size="small" label>{{
                job.state === 'done' && job.mode === 'rehearse' ? 'rehearsed' : job.state
              }}</v-chip>
            </td>
            <td>{{ describeJob(job) }}</td>
            <td class="number">{{ job.report?.matched ?? '–' }}</td>
            <td class="number">{{ job.report?.changed ?? '–' }}</td>
            <td class="text-medium-emphasis">
              <span v-if="job.problem" class="mono">{{ job.problem.code }}</span>
              <span v-else-if="job.state === 'running' || job.state === 'queued'">{{ describeProgress(job) }}</span>
            </td>
          </tr>
          <tr v-if="!isLoading && jobs.length === 0">
            <td colspan="7" class="text-medium-emphasis py-6">
              There are no such jobs. Change all records that match a filter, or apply a file, on the page Records.
            </td>
          </tr>
        </tbody>
      </v-table>
      <v-card-actions>
        <v-btn v-if="after" @click="router.back()">Newer</v-btn>
        <v-spacer />
        <v-btn v-if="next" @click="router.push({ query: { ...route.query, after: next } })">Older</v-btn>
      </v-card-actions>
    </v-card>
  </v-container>
</template>
