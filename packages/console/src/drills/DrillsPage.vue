<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import {
  DRILL_GUARDS,
  FAULT_KINDS,
  ISOLATIONS,
  type DrilledRun,
  type DrillGuard,
  type DrillReport,
  type DrillRequest,
  type Progress,
} from '@ledgerman/contract'
import { drillVerdict } from '@ledgerman/client'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { refusedOfRun } from '../problems/refused-properties.js'
import { useLongWork } from '../problems/useLongWork.js'
import FaultTable from './FaultTable.vue'
import InterleavingResults from './InterleavingResults.vue'
import RaceResult from './RaceResult.vue'
import RunFields from './RunFields.vue'
import { useRunForm } from './useRunForm.js'
import WalkPanel from './WalkPanel.vue'

const route = useRoute()
const router = useRouter()
const target = computed(() => String(route.params['target']))
const choices = ref<{ title: string; value: string }[]>([])
const first = useRunForm(target)
const second = useRunForm(target)
const kind = ref<'fault' | 'interleaving' | 'race' | 'walk'>('fault')
const faults = ref([...FAULT_KINDS])
const isolation = ref([...ISOLATIONS])
const guards = ref<DrillGuard[]>(['as defined'])
const times = ref('500')
const atOnce = ref('16')
const keep = ref('')
const report = ref<DrillReport | null>(null)
const progress = ref<Progress | null>(null)
/** What is drilled: the definitions, or the code that is written for them. */
const WHAT = [
  { title: 'the definition', value: null },
  { title: 'its written code', value: 'plain' as const },
  { title: 'its code with entries', value: 'booked' as const },
]
const code = ref<(typeof WHAT)[number]['value']>(null)
const problem = ref<unknown>(null)
const { isBusy, run, stop } = useLongWork(problem)
const found = computed(() => (report.value?.kind === kind.value ? report.value : null))
const verdict = computed(() => (found.value ? drillVerdict(found.value) : null))
const marks = computed(() => [0, 1].map((run) => refusedOfRun(problem.value, run)))
const COLORS = { 'nothing found': 'success', 'something is wrong': 'error', 'not drilled': 'warning' }

watch(
  target,
  async (name) => {
    problem.value = null
    try {
      const [transactions, mappings] = await Promise.all([
        client.target(name).transactions(),
        client.target(name).mappings(),
      ])
      choices.value = [
        ...transactions.map((each) => ({ title: each.name, value: `transaction ${each.name}` })),
        ...mappings.map((each) => ({ title: `load and save ${each.name}`, value: `mapping ${each.name}` })),
      ]
      const asked = route.params['transaction']
      first.form.what =
        asked !== undefined && asked !== '' ? `transaction ${String(asked)}` : (choices.value[0]?.value ?? '')
    } catch (error) {
      problem.value = error
    }
  },
  { immediate: true },
)
watch(
  () => first.form.what,
  (what) => {
    // The other one does the same, until something else is chosen.
    if (second.form.what === '') second.form.what = what
    const [of, name = ''] = what.split(' ')
    void router.replace({ params: { transaction: of === 'transaction' ? name : '' }, query: route.query })
  },
)

function toRequest(): DrillRequest | undefined {
  const run = first.toRun()
  const other = second.toRun()
  if (!run) return undefined
  switch (kind.value) {
    case 'fault':
      return { kind: 'fault', run, faults: faults.value }
    case 'interleaving':
      return (
        other && {
          kind: 'interleaving',
          runs: [run, other],
          isolation: isolation.value,
          guard: guards.value,
        }
      )
    case 'race': {
      const kept = keep.value.split('\n').filter((line) => line.trim() !== '')
      const runs: DrilledRun[] = other ? [run, other] : [run]
      return { kind: 'race', runs, times: Number(times.value), atOnce: Number(atOnce.value), keep: kept }
    }
    default:
      return undefined
  }
}

async function drill() {
  report.value = progress.value = null
  const told = await run(async (signal) => {
    const asked = toRequest()
    if (!asked) return undefined
    const request = code.value === null ? asked : { ...asked, code: code.value }
    return client.target(target.value).drill(request, (now) => (progress.value = now), signal)
  })
  if (told) report.value = told
  progress.value = null
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Drills</h1>
      <span class="text-medium-emphasis">in a scratch database, where nothing can be harmed</span>
    </div>
    <v-card class="mb-3">
      <v-tabs v-model="kind" density="compact">
        <v-tab value="fault" data-test="tab-fault">Faults</v-tab>
        <v-tab value="interleaving" data-test="tab-interleaving">Every interleaving</v-tab>
        <v-tab value="race" data-test="tab-race">Many at once</v-tab>
        <v-tab value="walk" data-test="tab-walk">Step by step</v-tab>
      </v-tabs>
      <div class="pa-3">
        <v-row>
          <v-col cols="12" md="6"
            ><RunFields label="A" :run="first" :choices="choices" :marks="marks[0] ?? {}"
          /></v-col>
          <v-col v-if="kind === 'interleaving' || kind === 'race'" cols="12" md="6"
            ><RunFields label="B" :run="second" :choices="choices" :marks="marks[1] ?? {}"
          /></v-col>
          <v-col v-if="kind === 'fault'" cols="12" md="6">
            <v-select v-model="faults" :items="[...FAULT_KINDS]" label="Faults" multiple chips hide-details />
          </v-col>
        </v-row>
        <div v-if="kind !== 'walk'" class="d-flex align-start ga-3 mt-3">
          <template v-if="kind === 'interleaving'">
            <v-select v-model="isolation" :items="[...ISOLATIONS]" label="Isolation" multiple hide-details />
            <v-select
              v-model="guards"
              :items="[...DRILL_GUARDS]"
              label="Guard"
              multiple
              hide-details
              data-test="guards"
            />
          </template>
          <template v-if="kind === 'race'">
            <v-text-field v-model="times" label="Times" hide-details style="max-width: 110px" />
            <v-text-field v-model="atOnce" label="At once" hide-details style="max-width: 110px" />
            <v-textarea
              v-model="keep"
              label="Keep, an expression a line"
              placeholder="sum(programme.hoursLeft)"
              persistent-placeholder
              rows="2"
              auto-grow
              hide-details
              data-test="keep"
            />
          </template>
          <v-select
            v-model="code"
            :items="WHAT"
            label="Drill"
            hide-details
            style="max-width: 220px"
            data-test="drill-what"
          />
          <v-spacer v-if="kind === 'fault'" />
          <v-btn color="primary" variant="flat" :disabled="isBusy" data-test="drill" @click="drill">Drill</v-btn>
        </div>
        <WalkPanel v-else v-model:problem="problem" class="mt-3" :target="target" :to-run="first.toRun" />
      </div>
    </v-card>
    <div v-if="isBusy" class="mb-3">
      <v-progress-linear
        :indeterminate="!progress"
        :model-value="progress ? (100 * progress.done) / progress.total : 0"
      />
      <p class="small-note text-medium-emphasis mt-1 d-flex align-center ga-3">
        <v-btn size="small" data-test="stop" @click="stop">Stop</v-btn>
        {{ progress ? `${progress.done} of ${progress.total}: ${progress.what}` : 'building the scratch database' }}
      </p>
    </div>
    <ProblemAlert :problem="problem" class="mb-3" />
    <v-card v-if="found && verdict" class="pa-3" data-test="report">
      <div class="d-flex align-center ga-3 mb-3">
        <v-chip :color="COLORS[verdict.kind]" class="flex-shrink-0" data-test="verdict">{{ verdict.kind }}</v-chip>
        <span data-test="verdict-words">{{ verdict.words }}</span>
      </div>
      <FaultTable v-if="found.kind === 'fault'" :drill="found" />
      <InterleavingResults v-else-if="found.kind === 'interleaving'" :drill="found" />
      <RaceResult v-else :drill="found" />
      <p class="small-note text-medium-emphasis mt-2">
        In a scratch database of its own, built in {{ found.scratch.builtMs }} ms:
        {{
          found.scratch.tables.map(({ table, rows }) => `${rows} of ${table.replace(/^public\./, '')}`).join(', ') ||
          'no rows'
        }}.
      </p>
      <p v-for="note in found.scratch.notes" :key="note" class="small-note text-medium-emphasis mt-2">{{ note }}</p>
    </v-card>
  </v-container>
</template>
