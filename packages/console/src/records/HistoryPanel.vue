<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { isProblem, type HistoryEvent, type RecordHistory } from '@ledgerman/contract'
import { formatInstant } from '../book/format-instant.js'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import ValueText from '../receipts/ValueText.vue'
import AsOfCard from './AsOfCard.vue'

/** What became of a record: who, when and how, each event with what changed. `state` is anything that differs once it was changed. */
const props = defineProps<{
  target: string
  mapping: string
  recordKey: readonly string[]
  properties: readonly string[]
  state: unknown
  /** The record as it is now. */
  now: Readonly<Record<string, unknown>> | null
}>()
/** The moment that is looked back at. */
const asOf = ref<string | null>(null)
const history = ref<HistoryEvent[]>([])
const next = ref<string | null>(null)
const unseen = ref<string[]>([])
const property = ref<string | null>(null)
const problem = ref<unknown>(null)
const isLoaded = ref(false)
const words: Record<HistoryEvent['kind'], string> = {
  added: 'added',
  changed: 'changed',
  removed: 'removed',
  reversed: 'put back',
  outside: 'outside the book',
}
const colors: Record<HistoryEvent['kind'], string> = {
  added: 'success',
  changed: 'primary',
  removed: 'error',
  reversed: 'secondary',
  outside: 'warning',
}
const place = computed(
  () => [props.target, props.mapping, props.recordKey.join('\0'), property.value, props.state] as const,
)

watch(place, () => void load(), { immediate: true })
watch(
  () => props.recordKey.join('\0'),
  () => (asOf.value = null),
)

async function load(after?: string) {
  problem.value = null
  try {
    const page: RecordHistory = await client.target(props.target).history(props.mapping, props.recordKey, {
      property: property.value ?? undefined,
      after,
      limit: 10,
    })
    history.value = after === undefined ? page.history : [...history.value, ...page.history]
    next.value = page.next
    unseen.value = page.unseen
  } catch (error) {
    // Without a book there is nothing to look back at; committing says what to do about it.
    if (!isProblem(error, 'book-not-prepared')) problem.value = error
  } finally {
    isLoaded.value = true
  }
}
</script>

<template>
  <v-card data-test="history">
    <v-card-item>
      <v-card-title>History</v-card-title>
      <template #append>
        <v-select
          v-model="property"
          :items="[
            { title: 'all properties', value: null },
            ...properties.map((each) => ({ title: each, value: each })),
          ]"
          aria-label="Property"
          hide-details
          density="compact"
          style="min-width: 170px"
          data-test="history-property"
        />
      </template>
    </v-card-item>
    <v-card-text>
      <ProblemAlert :problem="problem" />
      <AsOfCard
        v-if="asOf !== null"
        :target="target"
        :mapping="mapping"
        :record-key="recordKey"
        :at="asOf"
        :now="now"
        @close="asOf = null"
      />
      <p v-if="isLoaded && history.length === 0 && !problem" class="text-medium-emphasis">
        The book has nothing of this record{{ property === null ? '' : ' and property' }}.
      </p>
      <p v-for="each in unseen" :key="each" class="text-medium-emphasis" data-test="unseen">{{ each }}</p>
      <ol class="timeline">
        <li v-for="(event, at) in history" :key="at" :class="event.kind" data-test="event">
          <div class="d-flex align-center ga-2 flex-wrap">
            <v-chip size="x-small" label :color="colors[event.kind]">{{ words[event.kind] }}</v-chip>
            <router-link v-if="event.entry && event.at" :to="{ name: 'entry', params: { target, entry: event.entry } }"
              >{{ formatInstant(event.at) }} UTC</router-link
            >
            <span v-else class="text-medium-emphasis">nobody knows when</span>
            <span v-if="event.actor">by {{ event.actor }}</span>
            <span v-if="event.transaction" class="text-medium-emphasis">{{ event.transaction }}</span>
            <v-btn
              v-if="event.at"
              size="x-small"
              variant="text"
              title="The record as it was once this was done"
              data-test="show-as-of"
              @click="asOf = event.at"
              >As it was</v-btn
            >
            <em v-if="event.note" class="text-medium-emphasis">{{ event.note }}</em>
          </div>
          <div v-for="change in event.changes" :key="change.property" class="change">
            <span class="text-medium-emphasis">{{ change.property }}</span>
            <ValueText v-if="event.kind !== 'added'" :value="change.before" :against="change.after" :longest="50" />
            <template v-if="event.kind !== 'added' && event.kind !== 'removed'"> → </template>
            <strong v-if="event.kind !== 'removed'"
              ><ValueText :value="change.after" :against="change.before" :longest="50"
            /></strong>
          </div>
        </li>
      </ol>
      <v-btn v-if="next" size="small" data-test="older" @click="load(next)">Older</v-btn>
    </v-card-text>
  </v-card>
</template>

<style scoped>
.timeline {
  list-style: none;
  padding: 0;
  font-size: 0.8125rem;
}
.timeline li {
  border-left: 2px solid rgba(var(--v-theme-on-surface), 0.15);
  padding: 0 0 12px 12px;
}
.timeline li.outside {
  border-left-style: dashed;
  border-left-color: rgb(var(--v-theme-warning));
}
.change {
  display: flex;
  gap: 6px;
  flex-wrap: wrap;
}
</style>
