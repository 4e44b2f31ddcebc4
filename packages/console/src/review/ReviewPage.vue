<script setup lang="ts">
import { mdiFileSearchOutline, mdiUpload } from '@mdi/js'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { countOf as inWords } from '@ledgerman/client'
import type { Adoption, Review, ReviewFinding } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { useLongWork } from '../problems/useLongWork.js'
import { guessLanguage, LANGUAGES } from './guess-language.js'
import { applyEdit, editFor } from './put-right.js'
import SourceView from './SourceView.vue'

/** Code that one already has: pasted or dropped, with what is wrong beside its lines. */
const route = useRoute()
const target = computed(() => String(route.params['target']))
const files = ref<{ path: string; text: string }[]>([{ path: 'pasted.sql', text: '' }])
const at = ref(0)
const review = ref<Review | null>(null)
const problem = ref<unknown>(null)
const { isBusy, isLong, run, stop } = useLongWork(problem)
const current = computed(() => files.value[at.value] ?? { path: '', text: '' })
const findings = computed(() => review.value?.findings.filter(({ path }) => path === current.value.path) ?? [])
const source = ref<InstanceType<typeof SourceView>>()
const COLORS = { error: 'error', warning: 'warning', note: 'info' } as const

watch(target, () => (review.value = null))

function edit(text: string) {
  const file = files.value[at.value]
  if (!file) return
  if (file.path.startsWith('pasted.') && file.text === '') file.path = `pasted.${guessLanguage(text)}`
  file.text = text
}

async function drop(list: FileList | null | undefined) {
  const dropped = await Promise.all(
    [...(list ?? [])].map(async (file) => ({ path: file.name, text: await file.text() })),
  )
  if (dropped.length === 0) return
  files.value = dropped
  at.value = 0
  await look()
}

async function look() {
  const given = files.value.filter(({ text }) => text.trim() !== '')
  const found = await run((signal) =>
    given.length === 0 ? Promise.resolve(null) : client.target(target.value).review({ files: given }, signal),
  )
  if (found !== undefined) review.value = found
}

/** Puts one finding right in the text, and looks again. */
async function putRight(finding: ReviewFinding) {
  const edit = review.value && editFor(current.value.text, finding, review.value)
  const file = files.value[at.value]
  if (!edit || !file) return
  file.text = applyEdit(file.text, edit)
  await look()
}

function canPutRight(finding: ReviewFinding): boolean {
  return (
    finding.accepted === undefined &&
    review.value !== null &&
    editFor(current.value.text, finding, review.value) !== undefined
  )
}

const adoption = ref<Adoption['adopted'] | null>(null)
const published = ref<string[]>([])

/** Makes transactions of the functions in these files. */
async function adopt() {
  const given = files.value.filter(({ text }) => text.trim() !== '')
  const made = await run((signal) => client.target(target.value).adopt({ files: given }, signal))
  if (made) adoption.value = made.adopted
}

async function publish(name: string, source: string) {
  problem.value = null
  try {
    await client.target(target.value).publish([{ source }])
    published.value.push(name)
  } catch (error) {
    problem.value = error
  }
}

function countOf(path: string): number {
  return review.value?.findings.filter((each) => each.path === path && each.accepted === undefined).length ?? 0
}

function show(finding: ReviewFinding) {
  source.value?.goTo(finding.line, finding.column)
}
</script>

<template>
  <v-container fluid class="pa-4" @dragover.prevent @drop.prevent="drop($event.dataTransfer?.files)">
    <div class="d-flex align-center ga-2 mb-3">
      <h1>Review</h1>
      <span class="text-medium-emphasis"
        >Paste code, or drop files: statements are checked against this target, and never run.</span
      >
      <v-spacer />
      <v-btn size="small" :prepend-icon="mdiUpload" tag="label">
        Files
        <input
          type="file"
          multiple
          class="d-none"
          data-test="files"
          @change="drop(($event.target as HTMLInputElement).files)"
        />
      </v-btn>
      <v-btn v-if="isLong" size="small" data-test="stop" @click="stop">Stop</v-btn>
      <v-btn size="small" :disabled="isBusy || review === null" data-test="adopt" @click="adopt">Adopt</v-btn>
      <v-btn
        size="small"
        color="primary"
        variant="flat"
        :prepend-icon="mdiFileSearchOutline"
        :disabled="isBusy"
        data-test="review"
        @click="look"
        >Review</v-btn
      >
    </div>
    <ProblemAlert :problem="problem" class="mb-3" />
    <v-dialog :model-value="adoption !== null" max-width="760" scrollable @update:model-value="adoption = null">
      <v-card title="Adopt as transactions" data-test="adoption">
        <v-card-text>
          <p v-if="adoption?.length === 0">No function here changes records.</p>
          <div v-for="each in adoption ?? []" :key="each.name" class="mb-4">
            <div class="d-flex align-center ga-2 mb-1">
              <strong>{{ each.name }}</strong>
              <span class="text-medium-emphasis">from {{ each.from }}</span>
              <v-spacer />
              <router-link
                v-if="published.includes(each.name)"
                :to="{ name: 'transactions', params: { target, transaction: each.name } }"
                >published: open it</router-link
              >
              <v-btn
                v-else
                size="small"
                :disabled="each.problem !== null"
                data-test="publish-adopted"
                @click="publish(each.name, each.source)"
                >Publish</v-btn
              >
            </div>
            <p v-if="each.problem" class="text-error mb-1">Does not fit: {{ each.problem }}</p>
            <div class="yaml">
              <pre class="mono">{{ each.source }}</pre>
            </div>
          </div>
        </v-card-text>
        <v-card-actions><v-spacer /><v-btn @click="adoption = null">Close</v-btn></v-card-actions>
      </v-card>
    </v-dialog>
    <div class="d-flex ga-2 mb-2 align-center">
      <v-select
        v-if="files.length === 1 && current.path.startsWith('pasted.')"
        :model-value="current.path.split('.').at(-1)"
        :items="LANGUAGES"
        label="Language"
        hide-details
        density="compact"
        style="max-width: 180px"
        @update:model-value="files[0] && (files[0].path = `pasted.${$event}`)"
      />
      <v-chip
        v-for="(file, place) in files.length > 1 ? files : []"
        :key="file.path"
        :color="countOf(file.path) > 0 ? 'warning' : undefined"
        :variant="place === at ? 'flat' : 'tonal'"
        label
        @click="at = place"
        >{{ file.path }}{{ countOf(file.path) > 0 ? ` · ${countOf(file.path)}` : '' }}</v-chip
      >
      <v-spacer />
      <span v-if="review" data-test="summary" class="text-medium-emphasis"
        >{{ inWords(review.summary.statements, 'statement') }} · {{ inWords(review.summary.error, 'error') }} ·
        {{ inWords(review.summary.warning, 'warning') }}</span
      >
    </div>
    <div class="columns">
      <v-card class="source"
        ><SourceView ref="source" :text="current.text" :path="current.path" :findings="findings" @update:text="edit"
      /></v-card>
      <div class="findings">
        <p v-if="!review" class="text-medium-emphasis">
          SQL, TypeScript, JavaScript, Python, PHP, Java and C# are read.
        </p>
        <p v-else-if="findings.length === 0" class="text-medium-emphasis">Nothing was found in {{ current.path }}.</p>
        <v-card
          v-for="(each, place) in findings"
          :key="place"
          class="mb-2 pa-3"
          variant="flat"
          border
          data-test="finding"
          @click="show(each)"
        >
          <div class="d-flex align-center ga-2">
            <v-chip size="x-small" label :color="each.accepted ? undefined : COLORS[each.level]">{{
              each.accepted ? 'accepted' : each.level
            }}</v-chip>
            <strong>{{ each.rule }}</strong>
            <span class="text-medium-emphasis">line {{ each.line }}</span>
          </div>
          <div class="text-body-2">{{ each.message }}</div>
          <div class="text-medium-emphasis text-body-2">{{ each.accepted ?? each.why }}</div>
          <pre v-if="each.instead" class="mono instead">{{ each.instead }}</pre>
          <v-btn v-if="canPutRight(each)" size="x-small" class="mt-1" data-test="put-right" @click.stop="putRight(each)"
            >Put right</v-btn
          >
        </v-card>
      </div>
    </div>
  </v-container>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: minmax(0, 3fr) minmax(300px, 2fr);
  gap: 16px;
  height: calc(100vh - 190px);
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
    grid-auto-rows: 60vh;
    height: auto;
  }
}
.source {
  overflow: hidden;
}
.findings {
  overflow: auto;
}
.yaml {
  max-height: 300px;
  overflow: auto;
}
.instead {
  white-space: pre-wrap;
  font-size: 0.8125rem;
  margin: 6px 0 0;
}
</style>
