<script setup lang="ts">
import { printJson, type RowDifference } from '@ledgerman/contract'

/** Rows that are not as they were, column by column. */
defineProps<{ rows: readonly RowDifference[] }>()
const shown = (value: unknown) =>
  value === null || value === undefined ? 'null' : typeof value === 'string' ? value : printJson(value)
const names = ({ before, after }: RowDifference) => Object.keys(before ?? after ?? {})
</script>

<template>
  <div v-for="(row, at) in rows.slice(0, 50)" :key="at" class="mb-2" data-test="row-difference">
    <div class="small-note">
      <strong>{{ row.table.replace(/^public\./, '') }}</strong> {{ Object.values(row.key).map(shown).join(', ') }}
      <v-chip v-if="row.before === null" size="x-small" color="success" class="ml-1">added</v-chip>
      <v-chip v-else-if="row.after === null" size="x-small" color="error" class="ml-1">removed</v-chip>
    </div>
    <div v-for="name in names(row)" :key="name" class="mono d-flex flex-wrap ga-2">
      <span class="text-medium-emphasis">{{ name }}</span>
      <span v-if="row.before">{{ shown(row.before[name]) }}</span>
      <span v-if="row.before && row.after">→</span>
      <template v-if="row.after"
        ><strong>{{ ' ' + shown(row.after[name]) }}</strong></template
      >
    </div>
  </div>
  <p v-if="rows.length > 50" class="text-medium-emphasis">… and {{ rows.length - 50 }} more.</p>
</template>
