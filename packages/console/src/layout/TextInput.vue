<script setup lang="ts">
import { computed } from 'vue'

/**
 * A field for a text of one line or several. A single-line one would drop the line breaks of what it is given, and of what is pasted into it;
 * and what a browser gives back of several lines has line feeds only, so that others are put back.
 */
const props = defineProps<{
  /** The text as it was loaded, whose kind of line breaks is kept. */
  loaded?: string | undefined
}>()
const text = defineModel<string | undefined>()

/** Null where a browser cannot keep them: they are of several kinds, or carriage returns alone. */
const lineBreak = computed(() => {
  const kinds = new Set(props.loaded?.match(/\r\n|\r|\n/g) ?? [])
  if (kinds.size > 1 || kinds.has('\r')) return null
  return kinds.has('\r\n') ? '\r\n' : '\n'
})

function take(typed: string) {
  text.value = typed.replace(/\r\n|\r|\n/g, lineBreak.value ?? '\n')
}
</script>

<template>
  <v-textarea
    :model-value="text"
    :messages="lineBreak === null ? 'Its line breaks are of several kinds: edited here, all become line feeds.' : []"
    rows="1"
    auto-grow
    no-resize
    @update:model-value="take($event ?? '')"
  />
</template>
