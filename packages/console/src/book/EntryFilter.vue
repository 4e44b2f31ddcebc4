<script setup lang="ts">
import { computed, ref, watch } from 'vue'
import { client } from '../client.js'

/** Narrows the book by what was changed, who did it, and since when. */
const props = defineProps<{ target: string; filter: Record<string, string> }>()
const emit = defineEmits<{ narrow: [part: Record<string, string | undefined>] }>()
const names = ref<{ mappings: string[]; transactions: string[] }>({ mappings: [], transactions: [] })
const actor = ref('')
const what = computed(() => props.filter['mapping'] ?? props.filter['transaction'] ?? null)
const choices = computed(() => [...names.value.mappings, ...names.value.transactions])
const day = computed(() => props.filter['from']?.slice(0, 10) ?? '')

watch(() => props.target, loadNames, { immediate: true })
watch(
  () => props.filter['actor'],
  (named) => (actor.value = named ?? ''),
  { immediate: true },
)

/** Without them the book can be looked at all the same. */
async function loadNames() {
  const of = client.target(props.target)
  const [mappings, transactions] = await Promise.all([of.mappings(), of.transactions()]).catch(() => [[], []])
  names.value = { mappings: mappings.map(({ name }) => name), transactions: transactions.map(({ name }) => name) }
}

function chooseWhat(chosen: string | null) {
  const isMapping = chosen !== null && names.value.mappings.includes(chosen)
  emit('narrow', {
    mapping: isMapping ? chosen : undefined,
    transaction: chosen === null || isMapping ? undefined : chosen,
  })
}

function chooseDay(chosen: string) {
  emit('narrow', { from: chosen === '' ? undefined : `${chosen}T00:00:00Z` })
}
</script>

<template>
  <v-autocomplete
    :model-value="what"
    :items="choices"
    label="Mapping or transaction"
    clearable
    hide-details
    class="what"
    data-test="filter-what"
    @update:model-value="chooseWhat"
  />
  <v-text-field
    v-model="actor"
    label="Actor"
    clearable
    hide-details
    class="actor"
    data-test="filter-actor"
    @keydown.enter="emit('narrow', { actor: actor?.trim() || undefined })"
    @click:clear="emit('narrow', { actor: undefined })"
    @blur="(actor ?? '') !== (filter['actor'] ?? '') && emit('narrow', { actor: actor?.trim() || undefined })"
  />
  <v-text-field
    :model-value="day"
    type="date"
    label="Since (UTC)"
    hide-details
    class="day"
    data-test="filter-from"
    @update:model-value="chooseDay"
  />
</template>

<style scoped>
.what {
  max-width: 260px;
}
.actor {
  max-width: 180px;
}
.day {
  max-width: 170px;
}
</style>
