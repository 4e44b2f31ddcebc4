<script setup lang="ts">
import { computed, shallowRef, watch } from 'vue'
import { parseJson, printJson, RawJson } from '@ledgerman/contract'

/** The editor of a flat array: an entry each, added with Enter. Numbers keep their digits, since they stay text here. */
const props = defineProps<{
  label: string
  element: string
  choices: string[] | null
  text: string
  /** What stands there where there is no list. */
  none: string | undefined
  error: string | undefined
}>()
const emit = defineEmits<{ change: [text: string] }>()
const NUMBERS = ['integer', 'float']

/** An entry is told from another of the same text, from what is offered and from what is typed by a number that nobody types. */
interface Entry {
  title: string
  value: string
}

let made = 0
/** The text that the entries stand for. */
let known = props.text
const entries = shallowRef<Entry[]>(read(known))
const offered = computed<Entry[]>(() => (props.choices ?? []).map((title) => ({ title, value: `\u0000${title}` })))
watch(
  () => props.text,
  (text) => {
    if (text !== known) entries.value = read((known = text))
  },
)

function read(text: string): Entry[] {
  const items = parseJson(text === '' ? '[]' : text)
  return Array.isArray(items) ? items.map((item) => toEntry(typeof item === 'string' ? item : printJson(item))) : []
}

function toEntry(title: string): Entry {
  return { title, value: `\u0000\u0000${made++}` }
}

/** @param given entries that stood there, those that were chosen, and what was typed */
function change(given: readonly (Entry | string)[]) {
  entries.value = given.map((each) =>
    typeof each === 'string' ? toEntry(each) : entries.value.includes(each) ? each : toEntry(each.title),
  )
  const items = entries.value.map(({ title }) => title)
  const isNumber = (item: string) =>
    NUMBERS.includes(props.element) && /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(item)
  const value = items.map((item) =>
    isNumber(item)
      ? new RawJson(item)
      : props.element === 'boolean' && /^(true|false)$/.test(item)
        ? item === 'true'
        : item,
  )
  known = printJson(value)
  emit('change', known)
}
</script>

<template>
  <v-combobox
    :model-value="entries"
    :label="label"
    :items="offered"
    return-object
    multiple
    chips
    closable-chips
    variant="outlined"
    density="compact"
    :placeholder="none === undefined ? 'Type an entry and press Enter' : `${none}: type an entry and press Enter`"
    :persistent-placeholder="none !== undefined"
    :error-messages="error ? [error] : []"
    hide-details="auto"
    @update:model-value="change"
  />
</template>
