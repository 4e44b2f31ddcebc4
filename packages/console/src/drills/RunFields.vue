<script setup lang="ts">
import TextInput from '../layout/TextInput.vue'
import ProblemAlert from '../problems/ProblemAlert.vue'
import type { useRunForm } from './useRunForm.js'

/** What is drilled, and with which values. */
const props = defineProps<{
  label: string
  run: ReturnType<typeof useRunForm>
  choices: readonly { title: string; value: string }[]
  /** What was refused of it, by the field. */
  marks: Record<string, string>
}>()
const { form, fields } = props.run
</script>

<template>
  <div>
    <v-autocomplete
      v-model="form.what"
      auto-select-first
      :items="choices"
      :label="label"
      hide-details
      class="mb-2"
      :data-test="`what-${label}`"
    />
    <ProblemAlert :problem="form.problem" class="mb-2" />
    <div class="fields">
      <TextInput
        v-for="field in fields"
        :key="field.name"
        v-model="form.values[field.name]"
        :label="field.label"
        :hint="field.hint"
        :persistent-hint="field.hint !== undefined"
        :error-messages="marks[field.name]"
        :hide-details="field.hint === undefined && marks[field.name] === undefined"
        :data-test="`${label}-${field.name}`"
      />
    </div>
  </div>
</template>

<style scoped>
.fields {
  display: grid;
  grid-template-columns: repeat(auto-fill, minmax(150px, 1fr));
  gap: 8px;
  max-height: 260px;
  overflow-y: auto;
  padding-top: 6px;
  align-items: start;
}
</style>
