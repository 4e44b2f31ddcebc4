<script setup lang="ts">
import { ref, watch } from 'vue'
import { isProblem, type EntryInfo, type Receipt } from '@ledgerman/contract'
import { useRouter } from 'vue-router'
import { client } from '../client.js'
import { useGuide } from '../guide/useGuide.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import ReceiptCard from '../receipts/ReceiptCard.vue'

/** Puts an entry back: the difference is looked at before it is done. */
const props = defineProps<{ target: string; entry: EntryInfo }>()
const emit = defineEmits<{ done: [] }>()
const router = useRouter()
const receipt = ref<Receipt | null>(null)
const problem = ref<unknown>(null)
const onlyUnchanged = ref(false)
const isBusy = ref(false)

watch(
  () => props.entry.id,
  () => {
    receipt.value = problem.value = null
    onlyUnchanged.value = false
  },
)
watch(onlyUnchanged, () => void run('rehearse'))

async function run(mode: 'rehearse' | 'commit') {
  isBusy.value = true
  problem.value = null
  const rehearsal = mode === 'commit' ? (receipt.value?.rehearsal ?? undefined) : undefined
  try {
    const done = await client.target(props.target).reverse(props.entry.id, {
      mode,
      ...(onlyUnchanged.value ? { onlyUnchanged: true } : {}),
      ...(rehearsal === undefined ? {} : { rehearsal }),
    })
    if ('progress' in done)
      return void (await router.push({ name: 'job', params: { target: props.target, job: done.id } }))
    receipt.value = done
    if (mode !== 'commit') return
    useGuide().did('reverse')
    emit('done')
  } catch (error) {
    problem.value = error
    receipt.value = null
  } finally {
    isBusy.value = false
  }
}
</script>

<template>
  <div class="mb-4">
    <div class="d-flex align-center ga-3 mb-3">
      <v-btn :disabled="isBusy" variant="tonal" data-test="reverse" @click="run('rehearse')">Put it back …</v-btn>
      <v-checkbox
        v-if="onlyUnchanged || isProblem(problem, 'reversal-conflict')"
        v-model="onlyUnchanged"
        label="Only what is unchanged since"
        hide-details
        density="compact"
        data-test="only-unchanged"
      />
      <v-spacer />
      <v-btn
        v-if="receipt?.outcome === 'rehearsed'"
        color="primary"
        variant="flat"
        :disabled="isBusy"
        data-test="commit-reversal"
        @click="run('commit')"
        >Commit exactly this</v-btn
      >
    </div>
    <ProblemAlert :problem="problem" class="mb-3" />
    <ReceiptCard v-if="receipt" :receipt="receipt" />
  </div>
</template>
