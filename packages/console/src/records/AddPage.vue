<script setup lang="ts">
import { computed, nextTick, onMounted, reactive, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { propertyFromText } from '@ledgerman/client'
import { isProblem, type MappingInfo, type Receipt, type RecordValues, type RunMode } from '@ledgerman/contract'
import { client } from '../client.js'
import ProblemAlert from '../problems/ProblemAlert.vue'
import { focusFirst, refusedProperties } from '../problems/refused-properties.js'
import ReceiptCard from '../receipts/ReceiptCard.vue'
import type { FieldState } from './field-state.js'
import PropertyField from './PropertyField.vue'
import { addressOf, recordRoute } from './record-address.js'

const route = useRoute()
const target = computed(() => String(route.params['target']))
const name = computed(() => String(route.params['mapping']))
const mapping = ref<MappingInfo | null>(null)
const fields = reactive<Record<string, FieldState>>({})
const receipt = ref<Receipt | null>(null)
const problem = ref<unknown>(null)
const address = ref<string | null>(null)
const isBusy = ref(false)
const properties = computed(() => (mapping.value?.properties ?? []).filter((property) => property.addable))
const named = computed(() => properties.value.filter((property) => fields[property.name]?.isNull === false))
const errors = computed(() => Object.fromEntries(named.value.flatMap((property) => errorOf(property.name))))
const canRun = computed(
  () => !isBusy.value && address.value === null && named.value.length > 0 && Object.keys(errors.value).length === 0,
)

onMounted(async () => {
  try {
    const info = await client.target(target.value).mapping(name.value)
    for (const property of info.properties ?? []) fields[property.name] = { text: '', isNull: true }
    mapping.value = info
  } catch (error) {
    problem.value = error
  }
})

function valueOf(propertyName: string): unknown {
  const property = properties.value.find((each) => each.name === propertyName)
  return property && propertyFromText(property, fields[propertyName]?.text ?? '')
}

function errorOf(propertyName: string): [string, string][] {
  try {
    valueOf(propertyName)
    return []
  } catch (error) {
    return [[propertyName, isProblem(error) ? error.detail : String(error)]]
  }
}

const marks = computed(() => refusedProperties(problem.value))
watch(marks, (now) => {
  const order = properties.value.map((each) => each.name).filter((each) => each in now)
  void nextTick(() => focusFirst(order))
})

async function run(mode: RunMode) {
  isBusy.value = true
  problem.value = null
  receipt.value = null
  try {
    const values: RecordValues = Object.fromEntries(
      named.value.map((property) => [property.name, valueOf(property.name)]),
    )
    const added = await client.target(target.value).add(name.value, values, { mode })
    receipt.value = added.receipt
    if (mode === 'commit') address.value = addressOf(mapping.value?.key ?? [], added.record)
  } catch (error) {
    problem.value = error
  } finally {
    isBusy.value = false
  }
}

function leaveOut(propertyName: string) {
  fields[propertyName] = { text: '', isNull: true }
}
</script>

<template>
  <v-container fluid class="pa-4">
    <div class="d-flex align-center ga-2 mb-3">
      <v-btn :to="{ name: 'records', params: { target, mapping: name } }" size="small" data-test="back">{{
        name
      }}</v-btn>
      <h1 class="ml-2">New {{ name }}</h1>
    </div>
    <v-row>
      <v-col cols="12" md="5">
        <v-card v-if="mapping">
          <v-card-text>
            <div v-for="property in properties" :key="property.name" class="d-flex align-start ga-1">
              <PropertyField
                v-model="fields[property.name]!"
                class="flex-1-1"
                :property="property"
                :loaded="null"
                :is-edited="false"
                :error="errors[property.name] ?? marks[property.name]"
                is-new
              />
              <v-btn
                v-if="fields[property.name]?.isNull === false"
                size="x-small"
                variant="text"
                class="mt-2"
                @click="leaveOut(property.name)"
                >leave out</v-btn
              >
            </div>
          </v-card-text>
        </v-card>
      </v-col>
      <v-col cols="12" md="7">
        <v-card class="mb-3">
          <v-card-text class="d-flex align-center ga-3 flex-wrap">
            <span v-if="address === null">What is left out gets its default.</span>
            <span v-else>Added: <router-link :to="recordRoute(target, name, address)">open it</router-link></span>
            <v-spacer />
            <v-btn :disabled="!canRun" data-test="rehearse" @click="run('rehearse')">Rehearse</v-btn>
            <v-btn :disabled="!canRun" color="primary" variant="flat" data-test="commit" @click="run('commit')"
              >Commit</v-btn
            >
          </v-card-text>
        </v-card>
        <ProblemAlert :problem="problem" class="mb-3" />
        <ReceiptCard v-if="receipt" :receipt="receipt" />
      </v-col>
    </v-row>
  </v-container>
</template>
