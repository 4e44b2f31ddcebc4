<script setup lang="ts">
import { mdiFileUploadOutline } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { IMAGES, type Images, type MappingInfo, type RunMode } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import ValueText from '../receipts/ValueText.vue'
import JobActions from './JobActions.vue'
import JobCard from './JobCard.vue'
import { previewFile, type FilePreview, type PreviewColumn } from './preview-file.js'
import { useJob } from './useJob.js'

const COLORS: Record<PreviewColumn['use'], string | undefined> = {
  key: 'primary',
  set: 'success',
  kept: undefined,
  guard: 'secondary',
  unknown: 'error',
}
const route = useRoute()
const target = computed(() => String(route.params['target']))
const name = computed(() => String(route.params['mapping']))
const mapping = ref<MappingInfo | null>(null)
const file = ref<File | null>(null)
const preview = ref<FilePreview | null>(null)
const fileProblem = ref<unknown>(null)
const guard = ref<string | null>(null)
const delimiter = ref(',')
const chunk = ref('')
const adds = ref(false)
const images = ref<Images>('changed')
const note = ref('')
const isOver = ref(false)
const { job, problem, isBusy, rehearsal, canCommit, follow, forget, cancel } = useJob()
const isReadable = computed(() => preview.value !== null && preview.value.columns.every(({ use }) => use !== 'unknown'))
const chunkRows = computed(() => (/^\d+$/.test(chunk.value) ? Number(chunk.value) : undefined))
const canBegin = computed(() => !isBusy.value && isReadable.value && (chunk.value === '' || (chunkRows.value ?? 0) > 0))

watch(
  [target, name],
  async () => {
    try {
      mapping.value = await client.target(target.value).mapping(name.value)
    } catch (error) {
      fileProblem.value = error
    }
  },
  { immediate: true },
)
watch([file, guard, delimiter, mapping], look)
watch([file, guard, delimiter, chunk, adds, images], forget)

async function look() {
  preview.value = null
  fileProblem.value = null
  if (!file.value || !mapping.value) return
  try {
    preview.value = await previewFile(file.value, mapping.value, guard.value, delimiter.value)
    // What an export calls it.
    if (
      guard.value === null &&
      preview.value.columns.some(({ name: each, use }) => each === 'guard' && use === 'unknown')
    )
      guard.value = 'guard'
  } catch (error) {
    fileProblem.value = error
  }
}

function take(files: FileList | null | undefined) {
  isOver.value = false
  const [first] = files ?? []
  if (first) file.value = first
}

function begin(mode: RunMode) {
  const sent = file.value
  const form = preview.value?.form
  if (!sent || !form) return
  void follow(() =>
    client.target(target.value).beginFileJob(sent, form, {
      mapping: name.value,
      mode,
      images: images.value,
      chunk: chunkRows.value,
      guard: guard.value ?? undefined,
      onMissing: adds.value ? 'add' : undefined,
      delimiter: form === 'csv' && delimiter.value !== ',' ? (delimiter.value as ';') : undefined,
      note: note.value === '' ? undefined : note.value,
      rehearsal: mode === 'commit' ? (rehearsal.value ?? undefined) : undefined,
    }),
  )
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-2 mb-3">
      <v-btn :to="{ name: 'records', params: { target, mapping: name } }" size="small" data-test="back">{{
        name
      }}</v-btn>
      <h1 class="ml-2">{{ name }} from a file</h1>
    </div>
    <v-row>
      <v-col cols="12" md="5">
        <v-card>
          <v-card-text>
            <label
              class="drop d-flex flex-column align-center justify-center text-center pa-4 mb-3"
              :class="{ over: isOver }"
              data-test="drop"
              @dragover.prevent="isOver = true"
              @dragleave.prevent="isOver = false"
              @drop.prevent="take($event.dataTransfer?.files)"
            >
              <v-icon :icon="mdiFileUploadOutline" size="28" class="mb-1" />
              <span v-if="file" class="font-weight-medium">{{ file.name }} · {{ Math.ceil(file.size / 1024) }} kB</span>
              <span v-else>Drop a CSV or NDJSON file here, or choose one</span>
              <input
                type="file"
                accept=".csv,.ndjson,.jsonl,text/csv"
                data-test="file"
                @change="take(($event.target as HTMLInputElement).files)"
              />
            </label>
            <div class="d-flex ga-2 mb-3">
              <v-select
                v-model="delimiter"
                :items="[
                  { title: 'comma', value: ',' },
                  { title: 'semicolon', value: ';' },
                  { title: 'tab', value: '\t' },
                  { title: 'bar', value: '|' },
                ]"
                label="Delimiter"
                hide-details
              />
              <v-select
                v-model="guard"
                :items="[
                  { title: 'none', value: null },
                  ...(preview?.columns ?? []).map((each) => ({ title: each.name, value: each.name })),
                ]"
                label="Guard column"
                hide-details
              />
            </div>
            <div class="d-flex ga-2 mb-1">
              <v-text-field
                v-model="chunk"
                label="Rows a chunk"
                placeholder="all or nothing"
                persistent-placeholder
                hide-details
                data-test="chunk"
              />
              <v-select v-model="images" :items="[...IMAGES]" label="Images in the book" hide-details />
            </div>
            <v-checkbox v-model="adds" label="Add records that are not there" hide-details density="compact" />
            <v-text-field v-model="note" label="Note" hide-details class="mt-1" />
          </v-card-text>
          <JobActions
            :can-rehearse="canBegin"
            :can-commit="canCommit"
            :is-rehearsed="rehearsal !== null"
            @begin="begin"
          />
        </v-card>
      </v-col>
      <v-col cols="12" md="7">
        <ProblemAlert :problem="fileProblem" class="mb-3" />
        <v-card v-if="preview" class="mb-3" data-test="preview">
          <v-card-item><v-card-title>The first rows, and what the columns are for</v-card-title></v-card-item>
          <div class="scroll">
            <v-table density="compact">
              <thead>
                <tr>
                  <th v-for="column in preview.columns" :key="column.name">
                    {{ column.name }}<br /><v-chip size="x-small" label :color="COLORS[column.use]">{{
                      column.words
                    }}</v-chip>
                  </th>
                </tr>
              </thead>
              <tbody>
                <tr v-for="(row, at) in preview.rows" :key="at">
                  <td v-for="(value, column) in row" :key="column" class="text-no-wrap">
                    <ValueText :value="value" :longest="40" />
                  </td>
                </tr>
              </tbody>
            </v-table>
          </div>
        </v-card>
        <ProblemAlert :problem="problem" class="mb-3" />
        <JobCard v-if="job" :job="job" @cancel="cancel" @resume="follow(() => client.resumeJob(job!.id))" />
        <p v-else-if="!problem && !preview" class="text-medium-emphasis">
          The header names properties: the key finds each record, the others are set. An empty field is null, "" the
          empty text. What Records exports can be edited and sent back.
        </p>
      </v-col>
    </v-row>
  </v-container>
</template>

<style scoped>
.drop {
  border: 2px dashed rgba(var(--v-theme-on-surface), 0.3);
  border-radius: 8px;
  cursor: pointer;
  min-height: 96px;
}
.drop.over {
  border-color: rgb(var(--v-theme-primary));
  background: rgba(var(--v-theme-primary), 0.06);
}
.drop input {
  position: absolute;
  opacity: 0;
  width: 1px;
  height: 1px;
}
.drop:focus-within {
  outline: 2px solid rgb(var(--v-theme-primary));
}
.scroll {
  overflow-x: auto;
}
th {
  padding-block: 4px;
}
</style>
