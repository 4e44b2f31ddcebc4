<script setup lang="ts">
import { mdiChevronLeft, mdiChevronRight } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { printJson, type Anomaly, type ScheduleStep } from '@ledgerman/contract'
import RowDifferences from './RowDifferences.vue'

/** One bad schedule: a lane for each run, time going down, gone through statement by statement. */
const props = defineProps<{ anomaly: Anomaly; runs: readonly { run: string; what: string }[] }>()
const at = ref(0)
watch(
  () => props.anomaly,
  () => (at.value = props.anomaly.schedule.length - 1),
  { immediate: true },
)
const last = computed(() => props.anomaly.schedule.length - 1)
/** What somebody changes is what is worth seeing of what is read. */
const written = computed(
  () =>
    new Set(props.anomaly.schedule.flatMap(({ writes }) => writes.flatMap(({ after }) => Object.keys(after ?? {})))),
)
const shown = (value: unknown) =>
  value === null || value === undefined ? 'null' : typeof value === 'string' ? value : printJson(value)

function valuesOf(values: Record<string, unknown>): string {
  const all = Object.entries(values)
  const named = all.filter(([name]) => written.value.has(name))
  return (named.length > 0 ? named : all.slice(0, 2)).map(([name, value]) => `${name} ${shown(value)}`).join(', ')
}

function linesOf({ reads, writes }: ScheduleStep): string[] {
  const key = (row: { key: Record<string, unknown> }) => Object.values(row.key).map(shown).join(', ')
  return [
    ...reads.slice(0, 3).map((row) => `sees ${key(row)}: ${valuesOf(row.values)}`),
    ...(reads.length > 3 ? [`… ${reads.length} rows`] : []),
    ...writes.map((row) =>
      row.after === null
        ? `removes ${key(row)}`
        : `${key(row)}: ${Object.entries(row.after)
            .slice(0, 3)
            .map(([name, value]) => `${name} ${row.before ? `${shown(row.before[name])} → ` : ''}${shown(value)}`)
            .join(', ')}`,
    ),
  ]
}
</script>

<template>
  <div data-test="schedule">
    <div class="d-flex align-center ga-2 mb-2">
      <v-chip color="error">{{ anomaly.name }}</v-chip>
      <span class="small-note">{{ anomaly.message }}</span>
      <v-spacer />
      <v-btn icon size="x-small" aria-label="One statement back" :disabled="at === 0" @click="at--"
        ><v-icon :icon="mdiChevronLeft"
      /></v-btn>
      <span class="small-note text-no-wrap">{{ at + 1 }} of {{ last + 1 }}</span>
      <v-btn icon size="x-small" aria-label="One statement on" :disabled="at === last" @click="at++"
        ><v-icon :icon="mdiChevronRight"
      /></v-btn>
    </div>
    <div class="lanes" :style="{ gridTemplateColumns: `28px repeat(${runs.length}, 1fr)` }">
      <div />
      <div v-for="{ run, what } in runs" :key="run" class="head">
        <strong>{{ run }}</strong> <span class="text-medium-emphasis small-note">{{ what }}</span>
      </div>
      <template v-for="(step, row) in anomaly.schedule" :key="row">
        <div class="number small-note text-medium-emphasis" :style="{ gridRow: row + 2, gridColumn: 1 }">
          {{ row + 1 }}
        </div>
        <div
          class="event"
          :class="[step.action.replace(' ', '-'), { now: row === at, later: row > at, commit: step.step === 'commit' }]"
          :style="{ gridRow: row + 2, gridColumn: runs.findIndex(({ run }) => run === step.run) + 2 }"
          role="button"
          tabindex="0"
          @click="at = row"
          @keydown.enter="at = row"
        >
          <div class="d-flex ga-2 align-baseline">
            <span v-if="step.step !== 'commit'" class="text-medium-emphasis">{{ step.step }}</span>
            <span class="says">{{ step.message }}</span>
            <v-spacer />
            <v-chip
              v-if="step.action !== 'ran'"
              size="x-small"
              :color="step.action === 'refused' ? 'error' : 'warning'"
              >{{ step.action }}</v-chip
            >
          </div>
          <div v-for="line in linesOf(step)" :key="line" class="mono">{{ line }}</div>
        </div>
      </template>
    </div>
    <div v-if="at === last" class="mt-3">
      <div class="small-note text-medium-emphasis mb-1">The rows in the end, beside those before:</div>
      <RowDifferences :rows="anomaly.final" />
    </div>
  </div>
</template>

<style scoped>
.lanes {
  display: grid;
  gap: 6px 10px;
  align-items: start;
}
.head {
  border-bottom: 2px solid rgba(var(--v-theme-on-surface), 0.3);
}
.event {
  border: 1px solid rgba(var(--v-theme-on-surface), 0.25);
  border-left: 5px solid rgb(var(--v-theme-primary));
  border-radius: 6px;
  padding: 4px 8px;
  font-size: 0.8125rem;
  cursor: pointer;
}
.event.commit {
  border-left-color: rgb(var(--v-theme-secondary));
  border-left-style: double;
}
.event.waits,
.event.went-on {
  border-left-color: rgb(var(--v-theme-warning));
}
.event.refused {
  border-left-color: rgb(var(--v-theme-error));
}
.event.now {
  outline: 2px solid rgb(var(--v-theme-primary));
}
.event.later {
  opacity: 0.35;
}
</style>
