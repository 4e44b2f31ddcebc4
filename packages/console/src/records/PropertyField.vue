<script setup lang="ts">
import { mdiCancel, mdiKeyVariant, mdiLockOutline, mdiUndoVariant } from '@mdi/js'
import { computed } from 'vue'
import { VTextField } from 'vuetify/components'
import type { PropertyInfo } from '@ledgerman/contract'
import TextInput from '../layout/TextInput.vue'
import ListField from './ListField.vue'
import ValueText from '../receipts/ValueText.vue'
import { toField, type FieldState } from './field-state.js'

/** The editor of one property, fitting its kind. A number stays text, so that no digit is lost on the way. */
const props = defineProps<{
  property: PropertyInfo
  loaded: unknown
  isEdited: boolean
  error: string | undefined
  /** For a new record: what is left out gets its default. */
  isNew?: boolean
}>()
const field = defineModel<FieldState>({ required: true })
const emit = defineEmits<{ reset: [] }>()

const label = computed(() => `${props.property.name}${props.property.sensitive ? ' (sensitive)' : ''}`)
const isJson = computed(() => ['json', 'jsonb', 'array'].includes(props.property.kind))
/** A flat array without nulls, or none, can be edited as a list; any other one as JSON, as one of json values, whose texts are no numbers. */
const isList = computed(
  () =>
    props.property.kind === 'array' &&
    !/^jsonb?$/.test(props.property.element ?? '') &&
    (field.value.isNull || isFlat(field.value.text)),
)
const isDay = computed(() => props.property.kind === 'date' && /^(\d{4}-\d{2}-\d{2})?$/.test(field.value.text))
const zone = computed(() =>
  props.property.kind === 'timestamptz' && field.value.text.endsWith('Z') ? 'UTC' : undefined,
)
const loadedText = computed(() => toField(props.property, props.loaded).text)
/** By what was loaded, so that no other field stands there while somebody types. */
const hasLines = computed(() => isJson.value || props.property.kind === 'text' || /[\r\n]/.test(loadedText.value))
const lockIcon = computed(() => (props.property.key ? mdiKeyVariant : mdiLockOutline))
const lockReason = computed(() =>
  props.property.key && !props.property.writable ? 'part of the key' : props.property.lockedBecause,
)
const EXAMPLES: Record<string, string> = {
  date: '2026-03-01',
  time: '21:30:00',
  timestamp: '2026-03-01T21:30:00',
  timestamptz: '2026-03-01T21:30:00Z',
  interval: 'PT1H30M',
  bytea: 'base64',
}
const placeholder = computed(() =>
  props.isNew && field.value.isNull
    ? props.property.required
      ? 'required'
      : 'left out'
    : field.value.isNull
      ? 'null'
      : EXAMPLES[props.property.kind],
)

function isFlat(text: string): boolean {
  try {
    const items: unknown = JSON.parse(text)
    return Array.isArray(items) && !items.some((item) => item === null || typeof item === 'object')
  } catch {
    return false
  }
}

function setText(text: string) {
  field.value = { text, isNull: false }
}

function setNull() {
  field.value = { text: '', isNull: true }
}
</script>

<template>
  <div class="property mb-2" :data-test="`property-${property.name}`">
    <v-text-field
      v-if="isNew ? !property.addable : !property.writable"
      :model-value="field.isNull ? 'null' : field.text"
      :label="label"
      readonly
      tabindex="-1"
      variant="filled"
      :prepend-inner-icon="lockIcon"
      :hint="lockReason ? `Read-only: ${lockReason}` : ''"
      :error-messages="error ? [error] : []"
      persistent-hint
      class="locked"
    />
    <v-switch
      v-else-if="property.kind === 'boolean'"
      :model-value="field.isNull ? null : field.text === 'true'"
      :label="`${label}: ${field.isNull ? (placeholder ?? 'null') : field.text}`"
      color="primary"
      density="compact"
      class="ml-2"
      :error-messages="error ? [error] : []"
      hide-details="auto"
      @update:model-value="setText(String($event === true))"
    />
    <v-select
      v-else-if="property.choices && property.kind === 'enum'"
      :model-value="field.isNull ? null : field.text"
      :items="property.choices"
      :label="label"
      :placeholder="placeholder"
      :persistent-placeholder="field.isNull"
      :error-messages="error ? [error] : []"
      hide-details="auto"
      @update:model-value="setText(String($event))"
    />
    <ListField
      v-else-if="isList"
      :label="label"
      :element="property.element ?? 'text'"
      :choices="property.choices"
      :text="field.text"
      :none="field.isNull ? placeholder : undefined"
      :error="error"
      @change="setText"
    />
    <component
      :is="hasLines ? TextInput : VTextField"
      v-else
      :model-value="field.text"
      :label="label"
      :name="property.name"
      :placeholder="placeholder"
      :persistent-placeholder="field.isNull"
      :type="isDay ? 'date' : undefined"
      :suffix="zone"
      :error-messages="error ? [error] : []"
      :loaded="hasLines ? loadedText : undefined"
      autocomplete="off"
      :class="{ mono: isJson }"
      hide-details="auto"
      @update:model-value="setText"
    />
    <slot name="beside" />
    <div
      v-if="!isNew && (isEdited || (property.nullable && property.writable && !property.key && !field.isNull))"
      class="d-flex align-center ga-2 mt-1 small-note"
    >
      <span v-if="isEdited" class="text-primary" data-test="was">was <ValueText :value="loaded" :longest="60" /></span>
      <v-btn v-if="isEdited" size="x-small" variant="text" :prepend-icon="mdiUndoVariant" @click="emit('reset')"
        >undo</v-btn
      >
      <v-spacer />
      <v-btn
        v-if="property.nullable && !field.isNull"
        size="x-small"
        variant="text"
        :prepend-icon="mdiCancel"
        tabindex="-1"
        @click="setNull"
        >set null</v-btn
      >
    </div>
  </div>
</template>
