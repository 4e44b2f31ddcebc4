<script setup lang="ts">
import { mdiClose } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { keyToText } from '@ledgerman/client'
import { isProblem, type Receipt, type RecordValues, type RunMode } from '@ledgerman/contract'
import { recordRouteOf } from '../records/record-address.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import DifferenceTable from '../receipts/DifferenceTable.vue'
import ReceiptRemarks from '../receipts/ReceiptRemarks.vue'
import StepList from '../receipts/StepList.vue'
import ValueText from '../receipts/ValueText.vue'
import { useDraft } from './useDraft.js'

/** Changes of several records that are committed together, or not at all. */
const route = useRoute()
const target = computed(() => String(route.params['target']))
const draft = computed(() => useDraft(target.value))
const pending = computed(() => draft.value.pending.value)
const receipt = ref<Receipt | null>(null)
const problem = ref<unknown>(null)
const isBusy = ref(false)
/** The change that somebody else was faster with, and the three sides of it. */
const conflict = computed(() => {
  if (!isProblem(problem.value, 'record-changed')) return null
  const { step, yours, current, loaded } = problem.value.facts as Record<string, unknown>
  return {
    at: Number(step ?? 1) - 1,
    detail: problem.value.detail,
    yours: (yours ?? {}) as RecordValues,
    current: (current ?? {}) as RecordValues,
    loaded: (loaded ?? {}) as RecordValues,
  }
})
watch(pending, () => {
  // What was rehearsed is no longer what is pending.
  if (receipt.value?.outcome === 'rehearsed') receipt.value = null
})

async function attempt(work: () => Promise<Receipt | null>) {
  isBusy.value = true
  problem.value = null
  try {
    receipt.value = await work()
  } catch (error) {
    receipt.value = null
    problem.value = error
  } finally {
    isBusy.value = false
  }
}

const run = (mode: RunMode) => attempt(() => draft.value.run(mode, receipt.value?.rehearsal ?? null))
const without = (work: Promise<void>) => attempt(() => work.then(() => null))

function recordLink(mapping: string, key: RecordValues | null) {
  return recordRouteOf(target.value, mapping, key)
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-3 mb-3">
      <h1>Draft</h1>
      <span class="text-medium-emphasis">{{
        pending.length === 0
          ? 'nothing is pending'
          : `${pending.length} ${pending.length === 1 ? 'record' : 'records'}, committed together or not at all`
      }}</span>
      <v-spacer />
      <v-btn :disabled="isBusy || pending.length === 0" data-test="rehearse" @click="run('rehearse')">Rehearse</v-btn>
      <v-btn
        :disabled="isBusy || pending.length === 0"
        color="primary"
        variant="flat"
        data-test="commit"
        @click="run('commit')"
        >Commit</v-btn
      >
    </div>
    <v-card v-if="conflict" class="mb-3 pa-3" data-test="conflict">
      <p class="mb-2">
        <strong>Changed meanwhile:</strong> {{ pending[conflict.at]?.mapping }}
        {{ Object.values(pending[conflict.at]?.key ?? {}).join(', ') }}. Nothing was changed, of the others neither.
      </p>
      <v-table density="compact" class="mb-2">
        <thead>
          <tr>
            <th>Property</th>
            <th>Loaded</th>
            <th>Yours</th>
            <th>Current</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(value, name) in conflict.yours" :key="name">
            <td>{{ name }}</td>
            <td><ValueText :value="conflict.loaded[name]" :against="conflict.current[name]" /></td>
            <td class="font-weight-medium"><ValueText :value="value" :against="conflict.current[name]" /></td>
            <td><ValueText :value="conflict.current[name]" :against="conflict.loaded[name]" /></td>
          </tr>
        </tbody>
      </v-table>
      <div class="d-flex ga-2">
        <v-btn size="small" data-test="keep-mine" @click="without(draft.renew(conflict.at))"
          >Keep mine, on the record as it is now</v-btn
        >
        <v-btn size="small" data-test="take-theirs" @click="without(draft.forget(conflict.at))">Take theirs</v-btn>
      </div>
    </v-card>
    <ProblemAlert v-else :problem="problem" class="mb-3" />
    <v-row>
      <v-col cols="12" :md="receipt ? 6 : 12">
        <v-card
          v-for="(change, at) in pending"
          :key="`${change.mapping} ${at}`"
          class="mb-3"
          data-test="pending-change"
        >
          <v-card-text>
            <div class="d-flex align-center ga-2 mb-1">
              <strong>{{ change.kind }}</strong>
              <router-link :to="recordLink(change.mapping, change.key)"
                >{{ change.mapping }} {{ keyToText(change.key ?? {}) }}</router-link
              >
              <v-spacer />
              <v-btn icon size="x-small" variant="text" title="Let this change go" @click="without(draft.forget(at))"
                ><v-icon :icon="mdiClose"
              /></v-btn>
            </div>
            <DifferenceTable :row="{ key: {}, before: change.before, after: change.after }" />
          </v-card-text>
        </v-card>
        <p v-if="pending.length === 0 && !receipt" class="text-medium-emphasis">
          Change a record, and choose <em>Add to draft</em> instead of committing it. The changes of several records are
          then committed here as one.
        </p>
      </v-col>
      <v-col v-if="receipt" cols="12" :md="pending.length === 0 ? 12 : 6">
        <div class="d-flex align-center ga-3 mb-2" :data-outcome="receipt.outcome">
          <v-chip :color="receipt.outcome === 'committed' ? 'success' : 'info'">{{
            receipt.outcome === 'rehearsed' ? 'rehearsed, rolled back' : receipt.outcome
          }}</v-chip>
          <span class="text-medium-emphasis">{{ receipt.durationMs }} ms</span>
          <router-link
            v-if="receipt.outcome === 'committed'"
            :to="{ name: 'entry', params: { target, entry: receipt.id } }"
            >entry in the book</router-link
          >
        </div>
        <StepList :steps="receipt.steps" />
        <ReceiptRemarks class="mt-3" :receipt="receipt" />
      </v-col>
    </v-row>
  </v-container>
</template>
