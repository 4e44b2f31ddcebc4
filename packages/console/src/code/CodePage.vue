<script setup lang="ts">
import { mdiContentCopy, mdiFolderZipOutline } from '@mdi/js'
import { strToU8, zipSync } from 'fflate'
import { computed, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import type { CodeFile } from '@ledgerman/contract'
import { client } from '../client.js'
import { saveFile } from '../layout/save-file.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import CodeView from './CodeView.vue'

/** Data-access code out of the definitions: read, copied, taken away. */
const route = useRoute()
const target = computed(() => String(route.params['target']))
const mappings = ref<string[]>([])
const transactions = ref<string[]>([])
const chosen = ref<{ mappings: string[]; transactions: string[] }>({ mappings: [], transactions: [] })
/** Whether the code writes entries to the target's book. */
const isBooked = ref(false)
const files = ref<CodeFile[]>([])
const path = ref('')
const problem = ref<unknown>(null)
const isCopied = ref(false)
const shown = computed(() => files.value.find((file) => file.path === path.value) ?? files.value[0])

watch(target, () => void open(), { immediate: true })
watch([chosen, isBooked], () => void write(), { deep: true })

async function open() {
  problem.value = null
  try {
    const api = client.target(target.value)
    const [ofMappings, ofTransactions] = await Promise.all([api.mappings(), api.transactions()])
    mappings.value = ofMappings.map(({ name }) => name)
    transactions.value = ofTransactions.map(({ name }) => name)
    const { mapping, transaction } = route.query
    const isNamed = typeof mapping === 'string' || typeof transaction === 'string'
    chosen.value = {
      mappings: mappings.value.filter((name) => !isNamed || name === mapping),
      transactions: transactions.value.filter((name) => !isNamed || name === transaction),
    }
  } catch (error) {
    problem.value = error
  }
}

async function write() {
  problem.value = null
  try {
    files.value = await client.target(target.value).code({ ...chosen.value, ...(isBooked.value ? { book: true } : {}) })
    if (!files.value.some((file) => file.path === path.value)) path.value = files.value[0]?.path ?? ''
  } catch (error) {
    problem.value = error
    files.value = []
  }
}

async function copy() {
  await navigator.clipboard.writeText(shown.value?.text ?? '')
  isCopied.value = true
  setTimeout(() => (isCopied.value = false), 1500)
}

function download() {
  const zip = zipSync(Object.fromEntries(files.value.map((file) => [file.path, strToU8(file.text)])))
  saveFile(`${target.value}-code.zip`, new Blob([zip as BlobPart], { type: 'application/zip' }))
}
</script>

<template>
  <v-container fluid class="pa-4 page">
    <div class="d-flex align-center ga-2 mb-3">
      <h1>Code</h1>
      <span class="text-medium-emphasis"
        >TypeScript for node-postgres, written out of the definitions: it does what the service does, without it.</span
      >
      <v-spacer />
      <v-btn size="small" :prepend-icon="mdiContentCopy" :disabled="!shown" data-test="copy" @click="copy">{{
        isCopied ? 'Copied' : 'Copy file'
      }}</v-btn>
      <v-btn
        size="small"
        color="primary"
        variant="flat"
        :prepend-icon="mdiFolderZipOutline"
        :disabled="files.length === 0"
        data-test="download"
        @click="download"
        >Download all</v-btn
      >
    </div>
    <ProblemAlert :problem="problem" class="mb-3" />
    <div class="columns">
      <div class="choice">
        <v-checkbox v-model="isBooked" label="writes to the book" hide-details density="compact" data-test="booked" />
        <h2>Mappings</h2>
        <v-checkbox
          v-for="name in mappings"
          :key="name"
          v-model="chosen.mappings"
          :value="name"
          :label="name"
          hide-details
          density="compact"
        />
        <h2 class="mt-3">Transactions</h2>
        <v-checkbox
          v-for="name in transactions"
          :key="name"
          v-model="chosen.transactions"
          :value="name"
          :label="name"
          hide-details
          density="compact"
        />
      </div>
      <v-list density="compact" class="files" aria-label="Files">
        <v-list-item
          v-for="file in files"
          :key="file.path"
          :title="file.path"
          :active="file.path === shown?.path"
          data-test="file"
          @click="path = file.path"
        />
      </v-list>
      <v-card class="reading"><CodeView v-if="shown" :text="shown.text" /></v-card>
    </div>
  </v-container>
</template>

<style scoped>
.columns {
  display: grid;
  grid-template-columns: 190px 224px minmax(0, 1fr);
  gap: 16px;
  height: calc(100vh - 132px);
}
@media (max-width: 900px) {
  .columns {
    grid-template-columns: minmax(0, 1fr);
    height: auto;
  }
  .files {
    max-height: 40vh;
  }
}
.choice,
.files {
  overflow: auto;
}
.reading {
  overflow: hidden;
}
h2 {
  font-size: 0.875rem;
}
</style>
