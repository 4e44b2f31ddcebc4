<script setup lang="ts">
import type { TableInfo } from '@ledgerman/contract'

/** Columns, keys, checks and links of one table. */
const props = defineProps<{ table: TableInfo }>()
const emit = defineEmits<{ select: [path: string] }>()

function inKey(column: string): boolean {
  return props.table.keys[0]?.columns.includes(column) ?? false
}
</script>

<template>
  <div>
    <v-table density="compact" data-test="table-columns">
      <thead>
        <tr>
          <th>Column</th>
          <th>Type</th>
          <th>Note</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="column in table.columns" :key="column.name">
          <td :class="{ 'font-weight-bold': inKey(column.name) }">{{ column.name }}</td>
          <td class="mono">{{ column.type }}</td>
          <td class="small-note text-medium-emphasis">
            {{
              [
                inKey(column.name) ? 'key' : '',
                column.nullable ? 'may be null' : '',
                column.identity ? 'numbered by the database' : '',
                column.generated ? 'computed' : '',
                column.default === null ? '' : `default ${column.default}`,
              ]
                .filter(Boolean)
                .join(' · ')
            }}
          </td>
        </tr>
      </tbody>
    </v-table>
    <dl class="pa-3">
      <template v-if="table.keys.length > 0">
        <dt>Unique keys</dt>
        <dd v-for="key in table.keys" :key="key.name">
          {{ key.columns.join(', ') }} <span class="text-medium-emphasis">{{ key.primary ? 'primary' : '' }}</span>
        </dd>
      </template>
      <template v-if="table.checks.length > 0">
        <dt>Checks</dt>
        <dd v-for="check in table.checks" :key="check.name" class="mono">{{ check.definition }}</dd>
      </template>
      <template v-if="table.references.length > 0">
        <dt>Refers to</dt>
        <dd v-for="key in table.references" :key="key.name">
          {{ key.columns.join(', ') }} → <a href="#" @click.prevent="emit('select', key.table)">{{ key.table }}</a>
        </dd>
      </template>
      <template v-if="table.referencedBy.length > 0">
        <dt>Referred to by</dt>
        <dd v-for="key in table.referencedBy" :key="key.name">
          <a href="#" @click.prevent="emit('select', key.table)">{{ key.table }}</a> ({{ key.otherColumns.join(', ') }})
        </dd>
      </template>
      <template v-if="table.triggers.length > 0">
        <dt>Triggers on update</dt>
        <dd v-for="trigger in table.triggers" :key="trigger.name">{{ trigger.name }}, {{ trigger.when }}</dd>
      </template>
      <template v-if="table.rowSecurity">
        <dt>Row-level security</dt>
        <dd>policies decide which rows are seen and written</dd>
      </template>
    </dl>
  </div>
</template>

<style scoped>
dt {
  font-size: 0.8125rem;
  opacity: 0.7;
  margin-top: 8px;
}
dd {
  margin: 0;
}
</style>
