<script setup lang="ts">
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { keyToText } from '@ledgerman/client'
import { isProblem, hasChanged, type EntryInfo, type RunState } from '@ledgerman/contract'
import { recordRouteOf } from '../records/record-address.js'
import { client } from '../client.js'
import { useGuide } from '../guide/useGuide.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import ReceiptCard from '../receipts/ReceiptCard.vue'
import WaitingNote from '../waits/WaitingNote.vue'
import { useSession } from '../session/useSession.js'
import RelatedEntries from './RelatedEntries.vue'
import ReversePanel from './ReversePanel.vue'
import { formatInstant } from './format-instant.js'

const route = useRoute()
const entry = ref<EntryInfo | null>(null)
const problem = ref<unknown>(null)
/** The run, as long as there is no entry of it: while it is going on, or where it left none. */
const run = ref<RunState | null>(null)
const { may } = useSession()
const relatives = computed(() => {
  const { reversedBy = [], receipt } = entry.value ?? {}
  const all: [string, string[]][] = [
    ['It puts back', receipt?.reverses ?? []],
    ['It was put back by', reversedBy],
  ]
  return all.filter(([, ids]) => ids.length > 0)
})
let again: number | undefined

watch(
  () => [route.params['target'], route.params['entry']] as const,
  ([target, id]) => {
    entry.value = run.value = null
    if (id !== undefined) void show(String(target), String(id))
  },
  { immediate: true },
)
onUnmounted(() => window.clearTimeout(again))

async function show(name: string, id: string) {
  window.clearTimeout(again)
  const target = client.target(name)
  problem.value = null
  try {
    entry.value = await target.entry(id)
    useGuide().did('entry')
    run.value = null
  } catch (error) {
    if (isProblem(error, 'not-found')) run.value = await target.runState(id).catch(() => null)
    if (run.value?.state === 'running') again = window.setTimeout(() => void show(name, id), 1_000)
    else if (!run.value || run.value.entry !== null) problem.value = error
  }
}

function recordLink({ mapping, key, receipt }: EntryInfo) {
  return recordRouteOf(receipt.target, mapping ?? '', key)
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="text-medium-emphasis mb-1">
      <router-link :to="{ name: 'book', params: { target: route.params['target'] } }">Book</router-link> / entry
    </div>
    <ProblemAlert :problem="problem" />
    <template v-if="run">
      <h1 class="mb-1">run {{ run.transaction ?? 'of steps' }}</h1>
      <p class="text-medium-emphasis mb-4">
        begun {{ formatInstant(run.startedAt) }} UTC by {{ run.actor }}, to
        {{ run.mode === 'commit' ? 'commit' : 'rehearse' }} ·
        <span class="mono">{{ run.id }}</span>
      </p>
      <template v-if="run.state === 'running'">
        <WaitingNote :holders="run.waitsFor" :target="String(route.params['target'])" class="mb-3" />
        <v-alert type="info" variant="tonal" data-test="running">
          This run is still going on. Its entry is written with its commit, and is shown here then.
        </v-alert>
      </template>
      <v-alert v-else type="info" variant="tonal">
        This run is over and left no entry:
        {{ run.mode === 'rehearse' ? 'a rehearsal leaves none' : 'nothing of it was kept' }}.
      </v-alert>
    </template>
    <template v-if="entry">
      <h1 class="mb-1">
        {{ entry.receipt.reverses ? 'reversal' : entry.kind }} {{ entry.transaction ?? entry.mapping }}
        <router-link v-if="entry.key && entry.mapping" :to="recordLink(entry)">{{ keyToText(entry.key) }}</router-link>
      </h1>
      <p class="text-medium-emphasis mb-4">
        {{ formatInstant(entry.at) }} UTC by {{ entry.actor
        }}<template v-if="entry.receipt.revision !== null">, revision {{ entry.receipt.revision }}</template> ·
        <span class="mono">{{ entry.id }}</span>
      </p>
      <v-alert v-if="entry.problem" type="error" variant="tonal" class="mb-4" :title="entry.problem">{{
        entry.detail
      }}</v-alert>
      <RelatedEntries
        v-for="[words, ids] in relatives"
        :key="words"
        :words="words"
        :ids="ids"
        :target="entry.receipt.target"
      />
      <ReversePanel
        v-if="hasChanged(entry.receipt) && entry.receipt.reversible !== 'no' && may('writer')"
        :target="entry.receipt.target"
        :entry="entry"
        @done="show(entry.receipt.target, entry.id)"
      />
      <ReceiptCard :receipt="entry.receipt" is-entry />
    </template>
  </v-container>
</template>
