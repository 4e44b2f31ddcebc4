<script setup lang="ts">
import { mdiClose } from '@mdi/js'
import type { FindDefinition } from '@ledgerman/contract'

/** The parameters of a find that the mapping names, in place of the filter. */
const props = defineProps<{ name: string; definition: FindDefinition; texts: Record<string, string> }>()
const emit = defineEmits<{ 'update:texts': [texts: Record<string, string>]; submit: []; close: [] }>()

function set(name: string, text: string) {
  emit('update:texts', { ...props.texts, [name]: text })
}
</script>

<template>
  <div class="d-flex align-center ga-2 flex-wrap named" data-test="named-find" @keydown.enter="emit('submit')">
    <span :title="definition.where" class="font-weight-medium">{{ name }}</span>
    <v-text-field
      v-for="(param, param_name) in definition.params ?? {}"
      :key="param_name"
      :model-value="texts[param_name] ?? ''"
      :label="`${param_name} (${param.type}${param.nullable ? ', may be empty' : ''})`"
      hide-details
      style="max-width: 240px"
      :data-test="`param-${param_name}`"
      @update:model-value="(text: string) => set(String(param_name), text)"
    />
    <code class="mono small-note text-medium-emphasis text-truncate condition">{{ definition.where }}</code>
    <v-btn
      icon
      size="small"
      variant="text"
      aria-label="Back to the filter"
      title="Back to the filter"
      data-test="close-named-find"
      @click="emit('close')"
      ><v-icon :icon="mdiClose"
    /></v-btn>
  </div>
</template>

<style scoped>
.named {
  min-width: 0;
}
.condition {
  flex: 1 1 160px;
  min-width: 0;
}
</style>
