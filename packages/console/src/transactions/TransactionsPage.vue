<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import type { TransactionInfo, TransactionSummary } from '@ledgerman/contract'
import TextInput from '../layout/TextInput.vue'
import { client } from '../client.js'
import DefinitionEditor from '../definitions/DefinitionEditor.vue'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { refusedParameter } from '../problems/refused-properties.js'
import ReceiptRemarks from '../receipts/ReceiptRemarks.vue'
import StepList from '../receipts/StepList.vue'
import WaitingNote from '../waits/WaitingNote.vue'
import StepFlow from './StepFlow.vue'
import { useTransactionRun } from './useTransactionRun.js'
import { useSession } from '../session/useSession.js'

const { may } = useSession()
const route = useRoute()
const router = useRouter()
const transactions = ref<TransactionSummary[]>([])
/** Whether it is known which there are. */
const isListed = ref(false)
const transaction = ref<TransactionInfo | null>(null)
const loadProblem = ref<unknown>(null)
const tab = ref('run')
const target = computed(() => String(route.params['target']))
const name = computed(() => (route.params['transaction'] ? String(route.params['transaction']) : undefined))
const { params, receipt, shownReceipt, refusedAt, problem, isBusy, waiting, canCommit, takeExample, run } =
  useTransactionRun(target, transaction)
const marks = computed(() => refusedParameter(problem.value))
const isNew = computed(() => name.value === '-')
const STARTER = `transaction: my-transaction
summary: What it does.
params:
  code: { type: text }
examples:
  - { code: P-107 }
steps:
  - load: programme
    as: it
    key: { code: ':code' }
    lock: change
  - change: it
    compute: { priority: 'least(priority + 1, 5)' }
`

watch(
  target,
  () => {
    transactions.value = []
    isListed.value = false
    void loadList()
  },
  { immediate: true },
)
watch(
  [target, name],
  () => {
    void chooseOne()
    void loadOne()
  },
  { immediate: true },
)

async function loadList() {
  await attempt(async () => {
    transactions.value = await client.target(target.value).transactions()
    isListed.value = true
    await chooseOne()
  })
}

/** Where the address names no transaction, as that of the menu: the one that is shown, else the first. */
async function chooseOne() {
  if (name.value !== undefined || route.name !== 'transactions') return
  const shown = transaction.value?.name
  const chosen = transactions.value.find((each) => each.name === shown) ?? transactions.value[0]
  if (chosen) await router.replace({ params: { transaction: chosen.name } })
}

async function loadOne() {
  if (name.value === undefined || isNew.value) {
    transaction.value = null
    if (isNew.value) tab.value = 'definition'
    return
  }
  const chosen = name.value
  await attempt(async () => {
    transaction.value = await client.target(target.value).transaction(chosen)
    takeExample(0)
  })
}

async function published(publishedName: string) {
  await loadList()
  if (publishedName === name.value) await loadOne()
  else await router.push({ params: { transaction: publishedName } })
}

async function withdrawn() {
  transaction.value = null
  tab.value = 'run'
  await router.push({ params: { transaction: '' } })
  await loadList()
}

async function attempt(work: () => Promise<void>) {
  loadProblem.value = null
  try {
    await work()
  } catch (error) {
    loadProblem.value = error
  }
}

function choose(chosen: string | null) {
  if (chosen !== null) void router.push({ params: { transaction: chosen } })
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-4 mb-3">
      <h1>Transactions</h1>
      <v-autocomplete
        auto-select-first
        :model-value="isNew ? null : (name ?? null)"
        :items="transactions.map((each) => each.name)"
        label="Transaction"
        hide-details
        style="flex: none; width: 260px"
        data-test="transaction"
        @update:model-value="choose"
      />
      <span v-if="transaction" class="text-medium-emphasis"
        >{{ transaction.summary ? `${transaction.summary} · ` : '' }}revision {{ transaction.revision }}</span
      >
      <v-spacer />
      <v-btn v-if="may('author')" data-test="new-transaction" @click="choose('-')">New</v-btn>
    </div>
    <ProblemAlert :problem="loadProblem" class="mb-3" />
    <v-alert v-if="transaction?.drift" type="warning" variant="tonal" density="compact" class="mb-3">{{
      transaction.drift
    }}</v-alert>
    <v-row v-if="transaction || isNew">
      <v-col v-if="transaction" cols="12" md="5">
        <v-card>
          <StepFlow
            :key="`${transaction.name} ${transaction.revision}`"
            :steps="transaction.definition.steps"
            :receipts="shownReceipt?.steps ?? []"
            :refused-at="refusedAt"
          />
        </v-card>
      </v-col>
      <v-col cols="12" :md="transaction ? 7 : 12">
        <v-card>
          <v-tabs v-model="tab" density="compact">
            <v-tab value="run" :disabled="isNew">Run</v-tab>
            <v-tab value="definition" data-test="tab-definition">Definition</v-tab>
          </v-tabs>
          <div v-if="tab === 'run' && transaction" class="pa-3">
            <div class="d-flex flex-wrap align-start ga-3 mb-3">
              <TextInput
                v-for="(param, param_name) in transaction.definition.params ?? {}"
                :key="param_name"
                v-model="params[param_name]"
                :label="`${param_name} (${param.type})`"
                :hint="param.rule"
                :error-messages="marks[param_name]"
                persistent-hint
                style="min-width: 150px; max-width: 240px"
                :data-test="`param-${param_name}`"
                @keydown.ctrl.enter="run('rehearse')"
              />
            </div>
            <div class="d-flex align-center ga-2 mb-3">
              <v-btn
                v-for="(_, at) in transaction.definition.examples ?? []"
                :key="at"
                size="small"
                variant="outlined"
                :data-test="`example-${at + 1}`"
                @click="takeExample(at)"
                >Example {{ at + 1 }}</v-btn
              >
              <v-spacer />
              <v-btn
                v-if="may('author')"
                variant="text"
                :to="{ name: 'drills', params: { target, transaction: transaction.name } }"
                title="Try it under faults, and together with others"
                data-test="to-drills"
                >Drill</v-btn
              >
              <v-btn
                v-if="may('writer')"
                :disabled="isBusy"
                title="Ctrl and Enter"
                data-test="rehearse"
                @click="run('rehearse')"
                >Rehearse</v-btn
              >
              <v-btn
                v-if="may('writer')"
                :disabled="isBusy || !canCommit"
                color="primary"
                variant="flat"
                title="Commits exactly what was rehearsed"
                data-test="commit"
                @click="run('commit')"
                >Commit</v-btn
              >
            </div>
            <WaitingNote :holders="waiting" :target="target" class="mb-3" />
            <ProblemAlert :problem="problem" class="mb-3" />
            <template v-if="shownReceipt">
              <div class="d-flex align-center ga-3 mb-2" :data-outcome="shownReceipt.outcome">
                <v-chip :color="{ committed: 'success', rehearsed: 'info', refused: 'error' }[shownReceipt.outcome]">{{
                  shownReceipt.outcome === 'rehearsed' ? 'rehearsed, rolled back' : shownReceipt.outcome
                }}</v-chip>
                <span class="text-medium-emphasis"
                  >{{ shownReceipt.durationMs }} ms · {{ shownReceipt.isolation }}</span
                >
                <router-link
                  v-if="receipt?.outcome === 'committed'"
                  :to="{ name: 'entry', params: { target, entry: receipt.id } }"
                  >entry in the book</router-link
                >
              </div>
              <StepList :steps="shownReceipt.steps" />
              <ReceiptRemarks class="mt-3" :receipt="shownReceipt" />
            </template>
          </div>
          <div v-else class="pa-3">
            <DefinitionEditor
              :target="target"
              kind="transaction"
              :name="transaction?.name ?? ''"
              :source="transaction?.source ?? STARTER"
              :revision="transaction?.revision ?? 0"
              @published="published"
              @withdrawn="withdrawn"
            />
          </div>
        </v-card>
      </v-col>
    </v-row>
    <v-alert
      v-else-if="isListed && transactions.length === 0"
      type="info"
      variant="tonal"
      title="No transaction is published yet"
    >
      Write one here, or publish files: <span class="mono">ledgerman publish PATH</span>
    </v-alert>
  </v-container>
</template>
