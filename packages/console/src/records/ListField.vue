<script setup lang="ts">
import { computed } from 'vue'
import { parseJson, printJson, RawJson } from '@ledgerman/contract'

/** The editor of a flat array: an entry each, added with Enter. Numbers keep their digits, since they stay text here. */
const props = defineProps<{ label: string; element: string; choices: string[] | null; text: string }>()
const emit = defineEmits<{ change: [text: string] }>()
const NUMBERS = ['integer', 'float']

const entries = computed(() => {
  const items = parseJson(props.text === '' ? '[]' : props.text)
  return Array.isArray(items) ? items.map((item) => (typeof item === 'string' ? item : printJson(item))) : []
})

function change(items: readonly string[]) {
  const isNumber = (item: string) =>
    NUMBERS.includes(props.element) && /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(item)
  const value = items.map((item) =>
    isNumber(item)
      ? new RawJson(item)
      : props.element === 'boolean' && /^(true|false)$/.test(item)
        ? item === 'true'
        : item,
  )
  emit('change', printJson(value))
}
</script>

<template>
  <v-combobox
    :model-value="entries"
    :label="label"
    :items="choices ?? []"
    multiple
    chips
    closable-chips
    variant="outlined"
    density="compact"
    placeholder="Type an entry and press Enter"
    hide-details="auto"
    @update:model-value="change"
  />
</template>
