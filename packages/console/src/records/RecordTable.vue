<script setup lang="ts">
import type { PropertyInfo, RecordValues } from '@ledgerman/contract'
import ValueText from '../receipts/ValueText.vue'

const props = defineProps<{
  properties: PropertyInfo[]
  records: RecordValues[]
  addresses: string[]
  changed: ReadonlySet<string>
  isOpenable: boolean
}>()
const emit = defineEmits<{ open: [address: string] }>()
const NUMBERS = ['integer', 'bigint', 'numeric', 'float', 'money']

function open(at: number) {
  const address = props.addresses[at]
  if (props.isOpenable && address !== undefined) emit('open', address)
}
</script>

<template>
  <v-table density="compact" hover class="records" data-test="records">
    <thead>
      <tr>
        <th
          v-for="property in properties"
          :key="property.name"
          :class="{ number: NUMBERS.includes(property.kind) }"
          :title="`${property.column} ${property.type}`"
        >
          {{ property.name }}
        </th>
      </tr>
    </thead>
    <tbody>
      <tr
        v-for="(record, at) in records"
        :key="at"
        :class="{ openable: isOpenable, 'just-changed': changed.has(addresses[at] ?? '') }"
        :tabindex="isOpenable ? 0 : undefined"
        @click="open(at)"
        @keydown.enter="open(at)"
      >
        <td
          v-for="property in properties"
          :key="property.name"
          class="text-no-wrap"
          :class="{ number: NUMBERS.includes(property.kind) }"
        >
          <ValueText :value="record[property.name]" :longest="36" />
        </td>
      </tr>
    </tbody>
  </v-table>
</template>

<style scoped>
.records :deep(.v-table__wrapper) {
  max-height: calc(100vh - 190px);
}
.records :deep(th) {
  position: sticky;
  top: 0;
  background: rgb(var(--v-theme-surface)) !important;
  z-index: 1;
}
</style>
