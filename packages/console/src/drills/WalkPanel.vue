<script setup lang="ts">
import { computed, onBeforeUnmount, ref } from 'vue'
import { isProblem, type DrilledRun, type Walk } from '@ledgerman/contract'
import { client } from '../client.js'
import StepList from '../receipts/StepList.vue'
import RowDifferences from './RowDifferences.vue'

/** A run gone through step by step in a scratch database: what it has changed so far, and what it has locked. */
const props = defineProps<{ target: string; toRun: () => DrilledRun | undefined }>()
const walk = ref<Walk | null>(null)
const problem = defineModel<unknown>('problem')
const isBusy = ref(false)
const isAtCommit = computed(() => walk.value !== null && walk.value.at === walk.value.steps.length)
const refusal = computed(() => walk.value?.problem as { code: string; detail: string } | null | undefined)

async function attempt(work: () => Promise<Walk | null>) {
  isBusy.value = true
  problem.value = null
  try {
    walk.value = await work()
  } catch (error) {
    problem.value = error
    if (isProblem(error, 'not-found')) walk.value = null
  } finally {
    isBusy.value = false
  }
}

async function begin() {
  await stop()
  await attempt(async () => {
    const run = props.toRun()
    return run ? client.target(props.target).beginWalk(run) : null
  })
}
const next = () => attempt(() => client.target(props.target).nextStep(walk.value?.id ?? ''))

async function stop() {
  const id = walk.value?.id
  walk.value = null
  if (id !== undefined)
    await client
      .target(props.target)
      .stopWalk(id)
      .catch(() => undefined)
}

// It holds a database of its own: who leaves gives it back.
onBeforeUnmount(() => void stop())
</script>

<template>
  <div data-test="walk">
    <div class="d-flex ga-2 mb-3 align-center">
      <v-btn :disabled="isBusy" data-test="begin" @click="begin">{{ walk ? 'Restart' : 'Begin' }}</v-btn>
      <v-btn
        v-if="walk"
        color="primary"
        variant="flat"
        :disabled="isBusy || walk.state !== 'going'"
        data-test="next"
        @click="next"
        >{{ isAtCommit ? 'Commit' : `Run step ${walk.at + 1}` }}</v-btn
      >
      <v-btn v-if="walk" :disabled="isBusy" data-test="stop" @click="stop">Stop</v-btn>
      <v-chip v-if="walk?.state === 'done'" color="success">committed, in the scratch database</v-chip>
      <v-chip v-if="walk?.state === 'refused'" color="error">refused, and rolled back</v-chip>
    </div>
    <v-alert v-if="refusal" type="error" variant="tonal" density="compact" class="mb-3" :title="refusal.code">{{
      refusal.detail
    }}</v-alert>
    <v-row v-if="walk">
      <v-col cols="12" md="6">
        <ol class="steps">
          <li
            v-for="(step, at) in walk.steps"
            :key="step.no"
            :class="{ done: at < walk.at, now: at === walk.at && walk.state === 'going' }"
          >
            {{ step.what }}
          </li>
          <li :class="{ now: isAtCommit && walk.state === 'going', done: walk.state === 'done' }">commit</li>
        </ol>
        <StepList v-if="walk.receipt.length > 0" :steps="walk.receipt" />
      </v-col>
      <v-col cols="12" md="6">
        <div class="small-note text-medium-emphasis mb-1">
          {{ walk.state === 'done' ? 'Changed' : 'Pending: changed so far, and seen by nobody else' }}
        </div>
        <RowDifferences :rows="walk.pending" />
        <p v-if="walk.pending.length === 0" class="mb-2">nothing</p>
        <div class="small-note text-medium-emphasis mt-4 mb-1">Locked</div>
        <div v-for="(lock, at) in walk.locks" :key="at" class="small-note mb-1" data-test="lock">
          <strong>{{ lock.lock }}</strong> {{ lock.table }} <span class="mono">{{ lock.mode }}</span>
          <template v-if="lock.rows.length > 0">
            · {{ lock.rows.map((row) => Object.values(row).join(', ')).join(' · ') }}</template
          >
        </div>
        <p v-if="walk.locks.length === 0">nothing</p>
      </v-col>
    </v-row>
    <p v-else class="text-medium-emphasis">
      Each step is run when you say so, in a scratch database where nothing can be harmed. In between you see what the
      run has changed and what it holds.
    </p>
  </div>
</template>

<style scoped>
.steps {
  padding-left: 22px;
  margin-bottom: 12px;
  font-size: 0.875rem;
}
.steps li {
  padding: 3px 6px;
  border-radius: 4px;
}
.steps li.done {
  opacity: 0.6;
}
.steps li.now {
  outline: 2px solid rgb(var(--v-theme-primary));
}
</style>
