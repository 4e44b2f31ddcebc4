<script setup lang="ts">
import { mdiCheckCircle, mdiCloseCircle, mdiFlaskOutline } from '@mdi/js'
import { computed } from 'vue'
import { wayBackOf, type Receipt } from '@ledgerman/contract'
import { useSession } from '../session/useSession.js'
import DifferencesTable from './DifferencesTable.vue'
import DifferenceTable from './DifferenceTable.vue'
import ReceiptRemarks from './ReceiptRemarks.vue'
import RowsDownload from './RowsDownload.vue'
import StatementView from './StatementView.vue'
import StepList from './StepList.vue'

const props = defineProps<{ receipt: Receipt; isEntry?: boolean }>()
const headline = computed(
  () =>
    ({
      rehearsed: { title: 'Rehearsed, rolled back.', color: 'secondary', icon: mdiFlaskOutline },
      committed: { title: 'Committed', color: 'success', icon: mdiCheckCircle },
      refused: { title: 'Refused. Nothing was changed.', color: 'error', icon: mdiCloseCircle },
    })[props.receipt.outcome],
)
const wayBack = computed(() => wayBackOf(props.receipt))
const facts = computed(() =>
  [
    props.receipt.durationMs === null ? '' : `${props.receipt.durationMs} ms`,
    wayBack.value === null ? '' : `reversible: ${wayBack.value}`,
  ]
    .filter(Boolean)
    .join(' · '),
)
const { may } = useSession()
/** Where the same stands as data-access code, for authors: the function of its transaction, or of its mapping. */
const asCode = computed(() => {
  if (!may('author')) return null
  const { target, transaction, steps } = props.receipt
  const mapping = steps[0]?.mapping
  if (transaction !== null) return { name: 'code', params: { target }, query: { transaction } }
  return mapping && steps.length === 1 ? { name: 'code', params: { target }, query: { mapping } } : null
})
const entryId = computed(() => props.receipt.entry?.split('/').at(-1))
const hasMoreRows = computed(
  () =>
    props.receipt.outcome === 'committed' &&
    props.receipt.steps.some(({ rows, changed }) => rows.length > 0 && rows.length < (changed ?? 0)),
)
</script>

<template>
  <v-card data-test="receipt" :data-outcome="receipt.outcome">
    <v-card-item>
      <template #prepend><v-icon :icon="headline.icon" :color="headline.color" /></template>
      <v-card-title>{{ headline.title }}</v-card-title>
      <v-card-subtitle>
        {{ facts }}
        <router-link
          v-if="entryId && !isEntry"
          :to="{ name: 'entry', params: { target: receipt.target, entry: entryId } }"
          >entry in the book</router-link
        >
        <router-link v-if="asCode" :to="asCode" target="_blank" class="ml-2" data-test="as-code"
          >as TypeScript</router-link
        >
      </v-card-subtitle>
      <template v-if="entryId && hasMoreRows" #append>
        <RowsDownload :target="receipt.target" :entry="entryId" />
      </template>
    </v-card-item>
    <ReceiptRemarks class="px-4 py-3" :receipt="receipt" />
    <v-card-text v-if="receipt.transaction !== null || receipt.steps.length > 1">
      <p class="mb-2">
        {{
          receipt.transaction === null
            ? receipt.reverses
              ? 'What is put back, the newest first'
              : 'Steps that were sent with the run'
            : `${receipt.transaction}, revision ${receipt.revision}`
        }}
        · {{ receipt.isolation }}<template v-if="receipt.attempts > 1"> · {{ receipt.attempts }} attempts</template>
      </p>
      <StepList :steps="receipt.steps" />
    </v-card-text>
    <v-card-text v-for="step in receipt.steps" v-else :key="step.no">
      <div class="d-flex ga-2 mb-3 flex-wrap">
        <v-chip size="small">expected {{ step.expected }}</v-chip>
        <v-chip size="small" data-test="matched">matched {{ step.matched ?? '–' }}</v-chip>
        <v-chip size="small" data-test="changed">changed {{ step.changed ?? '–' }}</v-chip>
      </div>
      <p v-if="step.matched === 1 && step.changed === 0 && receipt.outcome !== 'refused'" class="mb-3">
        The record has these values already, so its row was not written.
      </p>
      <DifferencesTable v-if="step.rows.length > 1" :rows="step.rows" :total="step.changed ?? 0" />
      <DifferenceTable v-for="(row, at) in step.rows" v-else :key="at" :row="row" />
      <v-expansion-panels
        variant="accordion"
        class="mt-3"
        :model-value="receipt.outcome === 'rehearsed' || isEntry ? 0 : undefined"
      >
        <v-expansion-panel title="Statement and bound values" elevation="0">
          <template #text><StatementView :step="step" /></template>
        </v-expansion-panel>
      </v-expansion-panels>
    </v-card-text>
  </v-card>
</template>
