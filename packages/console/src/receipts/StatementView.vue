<script setup lang="ts">
import { mdiContentCopy } from '@mdi/js'
import { computed, ref } from 'vue'
import { restyle, type PlaceholderStyle, type StepReceipt } from '@ledgerman/contract'
import ValueText from './ValueText.vue'

/** A statement and its bound values: in short, and all that was run when asked for. */
const props = defineProps<{ step: Pick<StepReceipt, 'statement' | 'binds' | 'short'> }>()

const isWhole = ref(false)
const style = ref<PlaceholderStyle>('dollar')
const shown = computed(() => restyle(isWhole.value ? props.step : (props.step.short ?? props.step), style.value))
/** How programs in other languages write the place of a value. */
const STYLES = [
  { value: 'dollar', title: '$1' },
  { value: 'question', title: '?' },
  { value: 'colon', title: ':name' },
  { value: 'percent', title: '%s' },
  { value: 'percent-named', title: '%(name)s' },
  { value: 'at', title: '@name' },
] as const
const isCopied = ref(false)

async function copy() {
  await navigator.clipboard.writeText(shown.value.statement)
  isCopied.value = true
  setTimeout(() => (isCopied.value = false), 1500)
}
</script>

<template>
  <div>
    <pre class="mono statement" data-test="statement" tabindex="0">{{ shown.statement }}</pre>
    <div class="d-flex align-center ga-2 mt-2 mb-2">
      <v-select
        v-model="style"
        :items="STYLES"
        label="Placeholders"
        density="compact"
        hide-details
        class="styles"
        data-test="style"
      />
      <v-btn size="small" variant="text" :prepend-icon="mdiContentCopy" data-test="copy-statement" @click="copy">{{
        isCopied ? 'Copied' : 'Copy'
      }}</v-btn>
      <v-spacer />
      <v-btn v-if="step.short" size="small" data-test="whole-statement" @click="isWhole = !isWhole">
        {{ isWhole ? 'Short form' : 'Whole statement' }}
      </v-btn>
    </div>
    <p v-if="step.short && isWhole" class="text-medium-emphasis around mb-3">
      All that was run: it finds, judges, writes and books.
    </p>
    <ul v-else-if="step.short" class="around text-medium-emphasis mb-3" data-test="around">
      <li v-for="words in step.short.around" :key="words">{{ words }}</li>
    </ul>
    <v-table v-if="shown.binds.length > 0" density="compact" data-test="binds">
      <thead>
        <tr>
          <th style="width: 3rem">Bind</th>
          <th>For</th>
          <th>Value</th>
          <th>Type</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="bind in shown.binds" :key="bind.position">
          <td class="mono">{{ style === 'dollar' ? `$${bind.position}` : bind.position }}</td>
          <td>{{ bind.name }}</td>
          <td class="mono"><ValueText :value="bind.value" /></td>
          <td class="text-medium-emphasis">{{ bind.type }}</td>
        </tr>
      </tbody>
    </v-table>
  </div>
</template>

<style scoped>
.statement {
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  padding: 12px;
  border-radius: 4px;
  background: rgba(var(--v-theme-on-surface), 0.05);
}
.styles {
  flex: 0 0 10rem;
}
.around {
  font-size: 0.8125rem;
}
ul.around {
  padding-inline-start: 1.25rem;
}
</style>
