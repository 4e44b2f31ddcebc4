<script setup lang="ts">
import { computed, reactive } from 'vue'
import ValueText from '../receipts/ValueText.vue'
import { formatInstant } from '../book/format-instant.js'
import type { Conflict } from './useRecordForm.js'

/** Two people, one record: what was loaded, what you want, what is there now, and a choice for each property. */
const props = defineProps<{ conflict: Conflict }>()
const emit = defineEmits<{ solve: [keep: string[]] }>()
const mine = computed(() => Object.keys(props.conflict.yours))
const names = computed(() => [...new Set([...mine.value, ...props.conflict.theirs])])
/** Where both changed a property, theirs stands until a person says otherwise. */
const chosen = reactive<Record<string, 'yours' | 'current'>>(
  Object.fromEntries(
    Object.keys(props.conflict.yours).map((name) => [
      name,
      props.conflict.overlap?.includes(name) === false ? 'yours' : 'current',
    ]),
  ),
)
const kept = computed(() => mine.value.filter((name) => chosen[name] === 'yours'))
const hasNoOverlap = computed(() => props.conflict.overlap?.length === 0)
</script>

<template>
  <v-alert
    icon="$warning"
    border="start"
    border-color="warning"
    title="Changed meanwhile"
    role="alert"
    data-test="conflict"
  >
    <p data-test="conflict-words">
      This record was changed after you loaded it, so nothing of yours was written.
      <template v-if="hasNoOverlap">Your properties and those changed meanwhile do not overlap.</template>
      <template v-else-if="conflict.overlap"
        >What you set was changed meanwhile as well: {{ conflict.overlap.join(', ') }}.</template
      >
      <template v-if="conflict.newest">
        The newest entry for it in the book is by <strong>{{ conflict.newest.actor }}</strong>,
        {{ formatInstant(conflict.newest.at) }} UTC.
      </template>
      <template v-else>The book has no entry for it, so who changed it is not known.</template>
    </p>
    <v-table density="compact" class="mt-2">
      <thead>
        <tr>
          <th>Property</th>
          <th>Loaded</th>
          <th>Yours</th>
          <th>Current</th>
          <th>Keep</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="name in names" :key="name" :data-test="`conflict-${name}`">
          <td>{{ name }}</td>
          <td><ValueText :value="conflict.loaded[name]" :against="conflict.current[name]" :longest="40" /></td>
          <td :class="{ 'font-weight-bold': chosen[name] === 'yours' }">
            <ValueText
              v-if="name in conflict.yours"
              :value="conflict.yours[name]"
              :against="conflict.current[name]"
              :longest="40"
            />
          </td>
          <td :class="{ 'font-weight-bold': chosen[name] !== 'yours' }">
            <ValueText :value="conflict.current[name]" :against="conflict.loaded[name]" :longest="40" />
            <div v-if="conflict.by[name]" class="small-note text-medium-emphasis">
              by {{ conflict.by[name]?.actor }}
            </div>
          </td>
          <td>
            <v-btn-toggle
              v-if="name in conflict.yours"
              :model-value="chosen[name] ?? 'current'"
              mandatory
              density="compact"
              variant="outlined"
              divided
              @update:model-value="(value) => (chosen[name] = value)"
            >
              <v-btn value="yours" size="x-small" :data-test="`keep-yours-${name}`">Yours</v-btn>
              <v-btn value="current" size="x-small" :data-test="`keep-current-${name}`">Current</v-btn>
            </v-btn-toggle>
            <span v-else class="text-medium-emphasis">current</span>
          </td>
        </tr>
      </tbody>
    </v-table>
    <div class="d-flex ga-2 mt-3 flex-wrap">
      <v-btn size="small" color="primary" variant="flat" data-test="solve" @click="emit('solve', kept)">{{
        kept.length === 0 ? 'Take the current values' : `Go on with ${kept.join(', ')} of yours`
      }}</v-btn>
      <v-btn size="small" data-test="take-current" @click="emit('solve', [])">Take all current values</v-btn>
      <v-btn size="small" data-test="keep-mine" @click="emit('solve', mine)">Keep all of mine</v-btn>
    </div>
  </v-alert>
</template>
