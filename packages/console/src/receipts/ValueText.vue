<script setup lang="ts">
import { computed } from 'vue'
import { abridge, cutToDifference, propertyToText } from '@ledgerman/client'
import { visibleParts } from './visible-parts.js'

/** One value on one line: null and the empty text told apart from everything else, and what nobody would see marked. */
const props = defineProps<{
  value: unknown
  longest?: number
  /** The value it stands beside: where it is cut, it is to the part that differs. */
  against?: unknown
}>()
const text = computed(() => propertyToText(props.value))
const shown = computed(() => {
  const most = props.longest ?? 120
  const other = propertyToText(props.against)
  return other === '' ? abridge(text.value, most) : cutToDifference(text.value, other, most)[0]
})
const parts = computed(() => visibleParts(shown.value))
</script>

<template>
  <span v-if="value === null || value === undefined" class="absent">null</span>
  <span v-else-if="value === ''" class="absent">empty</span>
  <span v-else class="value" :title="shown === text ? undefined : text"
    ><template v-for="(part, at) in parts" :key="at"
      ><span v-if="part.isMark" class="absent mark">{{ part.text }}</span
      ><template v-else>{{ part.text }}</template></template
    ></span
  >
</template>

<style scoped>
/* Several blanks are several. */
.value {
  white-space-collapse: preserve;
}
.mark {
  font-style: normal;
}
</style>
