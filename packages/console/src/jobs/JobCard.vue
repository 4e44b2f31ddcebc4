<script setup lang="ts">
import { mdiCheckCircle, mdiCloseCircle, mdiCancel, mdiFlaskOutline, mdiProgressClock } from '@mdi/js'
import { computed } from 'vue'
import { keyToText, countOf } from '@ledgerman/client'
import type { Job } from '@ledgerman/contract'
import DifferencesTable from '../receipts/DifferencesTable.vue'
import ReceiptRemarks from '../receipts/ReceiptRemarks.vue'
import RowsDownload from '../receipts/RowsDownload.vue'
import { describeProgress } from './describe-job.js'

/** A job: how far it is, or what it did, what it did not do and why. */
const props = defineProps<{ job: Job }>()
const emit = defineEmits<{ cancel: []; resume: [] }>()
const isOpen = computed(() => props.job.state === 'queued' || props.job.state === 'running')
const headline = computed(() => {
  const { state, mode, report, progress, problem } = props.job
  if (isOpen.value)
    return { title: state === 'queued' ? 'Queued' : 'Running', color: 'primary', icon: mdiProgressClock }
  const stays =
    progress.chunk === null ? 'Nothing was changed.' : `What ${countOf(progress.chunk, 'chunk')} changed stays.`
  if (problem?.code === 'outcome-unknown')
    return { title: 'Failed. Whether it was committed is not known.', color: 'error', icon: mdiCloseCircle }
  if (state === 'failed') return { title: `Refused. ${stays}`, color: 'error', icon: mdiCloseCircle }
  if (state === 'cancelled') return { title: `Cancelled. ${stays}`, color: 'warning', icon: mdiCancel }
  const left = report && report.notFound + report.ambiguous + report.refused > 0
  if (mode === 'rehearse') return { title: 'Rehearsed, rolled back', color: 'secondary', icon: mdiFlaskOutline }
  return { title: left ? 'Committed, but for some rows' : 'Committed', color: 'success', icon: mdiCheckCircle }
})
const counts = computed(() => {
  const { report } = props.job
  if (!report) return []
  const all: [string, number, boolean][] = [
    ['matched', report.matched, true],
    ['changed', report.changed, true],
    ['added', report.added, false],
    ['already like that', report.same, false],
    ['not found', report.notFound, false],
    ['key twice in the file', report.ambiguous, false],
    ['refused', report.refused, false],
  ]
  return all.filter(([, count, isAlways]) => isAlways || count > 0)
})
const percent = computed(() => {
  const { rows, total } = props.job.progress
  return total === null || total === 0 ? 0 : (100 * rows) / total
})
/** Of a job in chunks each entry has rows of its own. */
const onlyEntry = computed(() => (props.job.entries.length === 1 ? props.job.entries[0] : undefined))
const failedUrl = computed(() => `/v1/jobs/${props.job.id}/failed-rows`)
const hasLines = computed(() => props.job.report?.sample.some(({ line }) => line !== null) ?? false)
</script>

<template>
  <v-card data-test="job" :data-state="job.state" :data-mode="job.mode">
    <v-card-item>
      <template #prepend><v-icon :icon="headline.icon" :color="headline.color" /></template>
      <v-card-title>{{ headline.title }}</v-card-title>
      <v-card-subtitle v-if="job.entries.length > 0">
        <router-link :to="{ name: 'entry', params: { target: job.target, entry: job.entries[0] } }">{{
          job.entries.length === 1 ? 'entry in the book' : `first of ${job.entries.length} entries in the book`
        }}</router-link>
      </v-card-subtitle>
      <template #append>
        <v-btn v-if="isOpen" size="small" data-test="cancel" @click="emit('cancel')">Cancel</v-btn>
        <v-btn
          v-if="job.mode === 'commit' && (job.state === 'cancelled' || job.state === 'failed')"
          size="small"
          data-test="resume"
          @click="emit('resume')"
          >Resume</v-btn
        >
      </template>
    </v-card-item>
    <v-card-text v-if="isOpen" data-test="progress">
      <v-progress-linear :indeterminate="percent === 0" :model-value="percent" height="8" rounded color="primary" />
      <p class="small-note text-medium-emphasis mt-1">{{ describeProgress(job) }}</p>
    </v-card-text>
    <v-card-text v-if="job.problem" class="text-error" data-test="job-problem">
      {{ job.problem.detail }} <span class="mono">{{ job.problem.code }}</span>
    </v-card-text>
    <v-card-text v-if="job.report">
      <div class="d-flex ga-2 flex-wrap mb-3">
        <v-chip v-for="[name, count] in counts" :key="name" size="small" :data-test="`count-${name}`"
          >{{ name }} {{ count }}</v-chip
        >
      </div>
      <DifferencesTable
        v-if="job.report.rows.length > 0"
        :rows="job.report.rows"
        :total="job.report.changed"
        class="mb-3"
      />
      <RowsDownload
        v-if="onlyEntry && job.report.rows.length > 0 && job.report.rows.length < job.report.changed"
        :target="job.target"
        :entry="onlyEntry"
        class="mb-3"
      />
      <ReceiptRemarks :receipt="job.report" is-one-step class="mb-3" />
      <template v-if="job.report.sample.length > 0">
        <div class="d-flex align-center mb-1">
          <h3>Not applied</h3>
          <v-spacer />
          <v-btn
            v-if="job.kind === 'file'"
            size="small"
            :href="failedUrl"
            download
            target="_blank"
            data-test="failed-rows"
            >Download these rows</v-btn
          >
        </div>
        <v-table density="compact" data-test="not-applied">
          <thead>
            <tr>
              <th v-if="hasLines" class="number">Line</th>
              <th>Key</th>
              <th>Because</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="(row, at) in job.report.sample" :key="at">
              <td v-if="hasLines" class="number">{{ row.line }}</td>
              <td class="text-no-wrap">{{ keyToText(row.key) }}</td>
              <td>{{ row.reason }}</td>
            </tr>
          </tbody>
        </v-table>
      </template>
    </v-card-text>
  </v-card>
</template>
