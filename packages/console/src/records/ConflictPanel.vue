<script setup lang="ts">
import { formatInstant } from '../book/format-instant.js'
import ValueText from '../receipts/ValueText.vue'
import type { Conflict } from './useRecordForm.js'

defineProps<{ conflict: Conflict; loaded: Record<string, unknown> | null }>()
const emit = defineEmits<{ takeCurrent: []; keepMine: [] }>()
</script>

<template>
  <v-alert
    icon="$warning"
    border="start"
    border-color="warning"
    title="Somebody else was faster"
    role="alert"
    data-test="conflict"
  >
    <p>
      This record was changed after you loaded it, so nothing of yours was written.
      <template v-if="conflict.newest">
        The newest entry for it in the book is by <strong>{{ conflict.newest.actor }}</strong>,
        {{ formatInstant(conflict.newest.at) }} UTC.
      </template>
      <template v-else>The book has no entry for it: the change was made outside Ledgerman.</template>
    </p>
    <v-table density="compact" class="mt-2">
      <thead>
        <tr>
          <th>Property</th>
          <th>Loaded</th>
          <th>Yours</th>
          <th>Current</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(value, name) in conflict.yours" :key="name">
          <td>{{ name }}</td>
          <td><ValueText :value="loaded?.[name]" :longest="40" /></td>
          <td><ValueText :value="value" :longest="40" /></td>
          <td class="font-weight-medium"><ValueText :value="conflict.current[name]" :longest="40" /></td>
        </tr>
      </tbody>
    </v-table>
    <div class="d-flex ga-2 mt-3">
      <v-btn size="small" data-test="take-current" @click="emit('takeCurrent')">Take the current values</v-btn>
      <v-btn size="small" data-test="keep-mine" @click="emit('keepMine')">Keep mine on top of them</v-btn>
    </div>
  </v-alert>
</template>
