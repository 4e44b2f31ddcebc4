<script setup lang="ts">
import { mdiArrowLeft, mdiHelpCircleOutline, mdiChevronLeft, mdiChevronRight, mdiDeleteOutline } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { onBeforeRouteLeave, onBeforeRouteUpdate, useRoute, useRouter } from 'vue-router'
import { fromRecordAddress } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import ExplainDialog from '../receipts/ExplainDialog.vue'
import ReceiptCard from '../receipts/ReceiptCard.vue'
import { addressFrom, recordRoute } from './record-address.js'
import ConflictPanel from './ConflictPanel.vue'
import HistoryPanel from './HistoryPanel.vue'
import PropertyField from './PropertyField.vue'
import RelatedPanel from './RelatedPanel.vue'
import { linkedRecords, type LinkedRecord } from './linked-records.js'
import RowWaits from '../waits/RowWaits.vue'
import WaitingNote from '../waits/WaitingNote.vue'
import { useDraft } from '../drafts/useDraft.js'
import { useSession } from '../session/useSession.js'
import { useListPlace } from './useListPlace.js'
import { queryOf } from './useListView.js'
import { useRecordForm } from './useRecordForm.js'

const route = useRoute()
const router = useRouter()
const { place, isOf, neighbour } = useListPlace()
const form = useRecordForm()
const { may } = useSession()
const {
  mapping,
  loaded,
  guard,
  fields,
  properties,
  pending,
  fieldErrors,
  marks,
  receipt,
  problem,
  conflict,
  isBusy,
  isRemoved,
  waiting,
  canRun,
} = form
const target = computed(() => String(route.params['target']))
const name = computed(() => String(route.params['mapping']))
const staged = computed(() => useDraft(target.value).pending.value.length)
const address = computed(() => addressFrom(route.params['key']))
const title = computed(() => mapping.value?.key.map((key) => String(loaded.value?.[key] ?? '')).join(', ') ?? '')
const previous = computed(() => neighbour(target.value, name.value, address.value, -1))
const following = computed(() => neighbour(target.value, name.value, address.value, 1))
const backToList = computed(() => ({
  name: 'records',
  params: { target: target.value, mapping: name.value },
  query: isOf(target.value, name.value) ? queryOf(place.view) : {},
}))

watch(
  [target, name, address],
  async () => {
    if (route.name !== 'record') return
    await form.open(target.value, name.value, address.value)
  },
  { immediate: true },
)
onBeforeRouteLeave(mayLeave)
onBeforeRouteUpdate(mayLeave)

/** What was edited and not committed is not lost without a word. */
function mayLeave(): boolean {
  return (
    pending.value.length === 0 ||
    isRemoved.value ||
    window.confirm(`Leave without committing ${pending.value.map((property) => property.name).join(', ')}?`)
  )
}

async function commit() {
  if (!(await form.run('commit'))) return
  const to = form.movedTo.value
  if (to !== null && to !== address.value) {
    place.addresses = place.addresses.map((each) => (each === address.value ? to : each))
    await router.replace(recordRoute(target.value, name.value, to))
  }
  place.changed.add(address.value)
}

/** What the to-one links of the record as loaded lead to. */
const linked = ref<Record<string, LinkedRecord>>({})
watch(loaded, async (record) => {
  linked.value = {}
  if (record && mapping.value) linked.value = await linkedRecords(client.target(target.value), mapping.value, record)
})

const isAsking = ref(false)
const isExplaining = ref(false)
const keyParts = computed(() => fromRecordAddress(address.value))

async function remove() {
  isAsking.value = false
  await form.remove()
}

function go(to: string | undefined) {
  if (to !== undefined) void router.push(recordRoute(target.value, name.value, to))
}
</script>

<template>
  <v-container
    fluid
    class="pa-4"
    @keydown.ctrl.exact.enter="canRun && form.run('rehearse')"
    @keydown.ctrl.shift.exact.enter="canRun && commit()"
    @keydown.alt.up.prevent="router.push(backToList)"
    @keydown.alt.left.prevent="go(previous)"
    @keydown.alt.right.prevent="go(following)"
  >
    <div class="d-flex align-center ga-2 mb-3">
      <v-btn :to="backToList" :prepend-icon="mdiArrowLeft" size="small" title="Alt and up arrow" data-test="back">{{
        name
      }}</v-btn>
      <h1 class="ml-2" data-test="title">{{ title }}</h1>
      <span class="text-medium-emphasis"
        >{{ mapping?.table }}<template v-if="loaded"> · guard {{ guard ?? 'none' }}</template></span
      >
      <v-spacer />
      <v-btn size="small" :prepend-icon="mdiHelpCircleOutline" data-test="explain" @click="isExplaining = true"
        >Explain</v-btn
      >
      <v-btn
        size="small"
        :disabled="previous === undefined"
        :prepend-icon="mdiChevronLeft"
        title="Alt and left arrow"
        data-test="previous"
        @click="go(previous)"
        >Previous</v-btn
      >
      <v-btn
        size="small"
        :disabled="following === undefined"
        :append-icon="mdiChevronRight"
        title="Alt and right arrow"
        data-test="next"
        @click="go(following)"
        >Next</v-btn
      >
    </div>
    <v-row>
      <v-col cols="12" md="5">
        <v-card v-if="loaded" :loading="isBusy">
          <v-card-text class="form">
            <PropertyField
              v-for="property in properties"
              :key="property.name"
              v-model="fields[property.name]!"
              :property="property"
              :loaded="loaded[property.name]"
              :is-edited="form.isEdited(property)"
              :error="fieldErrors[property.name] ?? marks[property.name]"
              @reset="form.reset(property)"
            >
              <template v-if="linked[property.name] && !form.isEdited(property)" #beside>
                <router-link
                  :to="recordRoute(target, linked[property.name]!.mapping, linked[property.name]!.address)"
                  class="small-note"
                  :data-test="`linked-${property.name}`"
                  >{{ linked[property.name]!.label }}</router-link
                >
              </template>
            </PropertyField>
          </v-card-text>
        </v-card>
        <ProblemAlert v-else :problem="problem" />
      </v-col>
      <v-col v-if="loaded" cols="12" md="7">
        <div class="side">
          <v-card class="mb-3">
            <v-card-text class="d-flex align-center ga-3 flex-wrap">
              <span data-test="pending">
                <template v-if="isRemoved">This record was removed. What it was is in the book.</template>
                <template v-else-if="pending.length === 0 && staged > 0"
                  ><router-link :to="{ name: 'draft', params: { target } }"
                    >The draft holds {{ staged }} {{ staged === 1 ? 'change' : 'changes' }}</router-link
                  >, to be committed together.</template
                >
                <template v-else-if="pending.length === 0">Change a field to begin.</template>
                <template v-else
                  >{{ pending.length }} {{ pending.length === 1 ? 'property' : 'properties' }} edited:
                  {{ pending.map((property) => property.name).join(', ') }}</template
                >
              </span>
              <v-spacer />
              <v-btn
                v-if="may('writer')"
                icon
                size="small"
                :disabled="isBusy || isRemoved"
                aria-label="Remove"
                title="Remove"
                data-test="remove"
                @click="isAsking = true"
                ><v-icon :icon="mdiDeleteOutline"
              /></v-btn>
              <v-btn
                v-if="may('writer')"
                :disabled="!canRun"
                title="To be committed together with changes of other records"
                data-test="to-draft"
                @click="form.stage"
                >Add to draft</v-btn
              >
              <v-btn
                v-if="may('writer')"
                :disabled="!canRun"
                title="Ctrl and Enter"
                data-test="rehearse"
                @click="form.run('rehearse')"
                >Rehearse</v-btn
              >
              <v-btn
                v-if="may('writer')"
                :disabled="!canRun"
                color="primary"
                variant="flat"
                title="Ctrl, Shift and Enter"
                data-test="commit"
                @click="commit"
                >Commit</v-btn
              >
            </v-card-text>
          </v-card>
          <ProblemAlert :problem="problem" class="mb-3" />
          <RowWaits
            v-if="may('author') && !isRemoved"
            :target="target"
            :mapping="name"
            :record-key="keyParts"
            class="mb-3"
          />
          <WaitingNote :holders="waiting" :target="target" class="mb-3" />
          <ConflictPanel v-if="conflict" :key="guard ?? ''" :conflict="conflict" class="mb-3" @solve="form.solve" />
          <ReceiptCard v-if="receipt && !conflict" :receipt="receipt" class="mb-3" />
          <RelatedPanel v-if="mapping && !conflict && !receipt" :target="target" :mapping="mapping" :record="loaded" />
          <HistoryPanel
            v-if="!conflict && !receipt"
            :target="target"
            :mapping="name"
            :record-key="keyParts"
            :properties="properties.map((each) => each.name)"
            :state="guard"
            :now="loaded"
          />
        </div>
      </v-col>
    </v-row>
    <ExplainDialog v-model="isExplaining" :explain="() => client.target(target).explainLoad(name, keyParts)" />
    <v-dialog v-model="isAsking" max-width="440">
      <v-card :title="`Remove ${name} ${title}?`" data-test="ask-remove">
        <v-card-text>It goes from {{ mapping?.table }}. Its values stay in the book.</v-card-text>
        <v-card-actions>
          <v-spacer />
          <v-btn autofocus @click="isAsking = false">Keep it</v-btn>
          <v-btn color="error" variant="flat" data-test="confirm-remove" @click="remove">Remove</v-btn>
        </v-card-actions>
      </v-card>
    </v-dialog>
  </v-container>
</template>

<style scoped>
.side {
  position: sticky;
  top: 64px;
}
</style>
