<script setup lang="ts">
import { computed } from 'vue'
import { keyToText } from '@ledgerman/client'
import type { RowReceipt } from '@ledgerman/contract'
import ValueText from './ValueText.vue'

/** Which row it is, what it was and is: the properties that were set, then what changed beside them. */
const props = defineProps<{ row: RowReceipt }>()
const record = computed(() => keyToText(props.row.key))
const lines = computed(() => {
  const { before, after, alsoChanged } = props.row
  return [
    ...toLines(before ?? {}, after ?? {}, false),
    ...(alsoChanged ? toLines(alsoChanged.before, alsoChanged.after, true) : []),
  ]
})

function toLines(before: Record<string, unknown>, after: Record<string, unknown>, isBeside: boolean) {
  return [...new Set([...Object.keys(before), ...Object.keys(after)])].map((name) => ({
    name,
    before: before[name],
    after: after[name],
    isBeside,
  }))
}
</script>

<template>
  <div>
    <p v-if="record !== ''" class="small-note font-weight-medium" data-test="record">{{ record }}</p>
    <v-table density="compact" class="difference" data-test="difference">
      <thead>
        <tr>
          <th>Property</th>
          <th>Before</th>
          <th>After</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in lines" :key="line.name" :class="{ 'text-medium-emphasis': line.isBeside }">
          <td>{{ line.name }} <small v-if="line.isBeside">automatic</small></td>
          <td><ValueText v-if="row.before" :value="line.before" :against="line.after" /></td>
          <td class="font-weight-medium"><ValueText v-if="row.after" :value="line.after" :against="line.before" /></td>
        </tr>
      </tbody>
    </v-table>
  </div>
</template>

<style scoped>
.difference {
  font-size: 0.8125rem;
}
.difference :is(th, td) {
  padding-inline: 8px;
}
</style>
