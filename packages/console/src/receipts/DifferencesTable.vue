<script setup lang="ts">
import { computed } from 'vue'
import { countOf, keyChange, rowDifferences } from '@ledgerman/client'
import type { RowReceipt } from '@ledgerman/contract'
import ValueText from './ValueText.vue'

/** The differences of many rows: a line a row, and what all of them share said once. */
const props = defineProps<{ rows: readonly RowReceipt[]; total: number }>()
const differences = computed(() => rowDifferences(props.rows))
const numberColumns = computed(
  () => new Set(differences.value.columns.filter((name) => valuesOf(name).every((value) => isNumber(value)))),
)
/** How many rows are seen at once. */
const IN_SIGHT = 8
const isNumberColumn = (name: string) => numberColumns.value.has(name)

function valuesOf(name: string): unknown[] {
  const all = differences.value.rows.flatMap(({ changes }) => [changes.get(name)?.before, changes.get(name)?.after])
  return all.filter((value) => value !== undefined && value !== null)
}

function isNumber(value: unknown): boolean {
  return typeof value === 'number' || (typeof value === 'string' && /^-?\d+(\.\d+)?$/.test(value))
}
</script>

<template>
  <div>
    <p v-if="differences.shared.length > 0" class="small-note text-medium-emphasis mb-1" data-test="shared">
      In every row:
      <span v-for="(each, at) in differences.shared" :key="each.name">
        <template v-if="at > 0"> · </template>{{ each.name }}
        <template v-if="'change' in each"
          ><ValueText :value="each.change.before" :against="each.change.after" :longest="40" /> →
          <ValueText :value="each.change.after" :against="each.change.before" :longest="40"
        /></template>
        <template v-else-if="'step' in each">+{{ each.step }}</template>
        <template v-else>→ <ValueText :value="each.after" :longest="40" /></template>
      </span>
    </p>
    <div class="scroll" tabindex="0" role="region" aria-label="Differences">
      <v-table density="compact" class="differences" data-test="differences">
        <thead>
          <tr>
            <th v-for="name in differences.keys" :key="name">{{ name }}</th>
            <th v-for="name in differences.columns" :key="name" :class="{ number: isNumberColumn(name) }">
              {{ name }}
            </th>
            <th class="rest"></th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(row, at) in differences.rows" :key="at">
            <td v-for="name in differences.keys" :key="name" class="text-no-wrap">
              <template v-if="keyChange(row, name)"
                ><span class="old"
                  ><ValueText
                    :value="keyChange(row, name)?.before"
                    :against="keyChange(row, name)?.after"
                    :longest="40"
                /></span>
                →
                <span class="font-weight-medium"
                  ><ValueText
                    :value="keyChange(row, name)?.after"
                    :against="keyChange(row, name)?.before"
                    :longest="40" /></span
              ></template>
              <ValueText v-else :value="row.key[name]" :longest="40" />
            </td>
            <td
              v-for="name in differences.columns"
              :key="name"
              class="text-no-wrap"
              :class="{
                number: isNumberColumn(name),
                'text-medium-emphasis': row.changes.get(name)?.isBeside,
              }"
            >
              <template v-if="row.changes.get(name)">
                <span v-if="row.changes.get(name)?.before !== undefined" class="old"
                  ><ValueText
                    :value="row.changes.get(name)?.before"
                    :against="row.changes.get(name)?.after"
                    :longest="40"
                /></span>
                <template
                  v-if="row.changes.get(name)?.before !== undefined && row.changes.get(name)?.after !== undefined"
                >
                  →
                </template>
                <span v-if="row.changes.get(name)?.after !== undefined" class="font-weight-medium"
                  ><ValueText
                    :value="row.changes.get(name)?.after"
                    :against="row.changes.get(name)?.before"
                    :longest="40"
                /></span>
              </template>
            </td>
            <td></td>
          </tr>
        </tbody>
      </v-table>
    </div>
    <p v-if="total > rows.length" class="small-note text-medium-emphasis mt-1">
      … and {{ countOf(total - rows.length, 'more row') }}
    </p>
    <p v-else-if="rows.length > IN_SIGHT" class="small-note text-medium-emphasis mt-1">
      {{ countOf(rows.length, 'row') }}; the list scrolls
    </p>
  </div>
</template>

<style scoped>
.differences {
  font-size: 0.8125rem;
}
.differences :is(th, td) {
  padding-inline: 8px;
}
.rest {
  width: 100%;
}
.old {
  color: rgba(var(--v-theme-on-surface), var(--v-medium-emphasis-opacity));
}
.scroll {
  max-height: 340px;
  overflow: auto;
}
</style>
