<script setup lang="ts">
import { mdiAlertCircle, mdiCheck } from '@mdi/js'
import type { FaultDrill, FaultResult } from '@ledgerman/contract'
import { computed } from 'vue'
import RowDifferences from './RowDifferences.vue'

/** The result of each fault: what the caller was told, and whether the rows and the book say the same. */
const props = defineProps<{ drill: FaultDrill }>()
const results = computed((): FaultResult[] => [props.drill.undisturbed, ...props.drill.results])
</script>

<template>
  <v-table density="compact" fixed-header height="560" data-test="faults">
    <thead>
      <tr>
        <th style="width: 36px"><span class="d-sr-only">agrees</span></th>
        <th>Fault</th>
        <th>Caller saw</th>
        <th>Rows</th>
        <th>Result</th>
      </tr>
    </thead>
    <tbody>
      <tr v-for="result in results" :key="result.fault" :data-agrees="result.agrees">
        <td>
          <v-icon
            :icon="result.agrees ? mdiCheck : mdiAlertCircle"
            :color="result.agrees ? 'success' : 'error'"
            size="small"
            :title="result.agrees ? 'the caller, the rows and the book agree' : 'something is wrong'"
          />
        </td>
        <td>{{ result.fault === 'none' ? 'none: undisturbed' : result.fault }}</td>
        <td>
          <v-chip size="small" :color="result.outcome === 'committed' ? 'success' : undefined">{{
            result.outcome
          }}</v-chip>
        </td>
        <td class="text-no-wrap">
          <span v-if="result.differing.length === 0" class="text-medium-emphasis">as before</span>
          <v-menu v-else open-on-click :close-on-content-click="false">
            <template #activator="{ props: opener }">
              <a v-bind="opener" href="#" @click.prevent>{{ result.differing.length }} differ</a>
            </template>
            <v-card class="pa-3" max-width="700"><RowDifferences :rows="result.differing" /></v-card>
          </v-menu>
        </td>
        <td class="small-note">{{ result.message }}</td>
      </tr>
    </tbody>
  </v-table>
</template>
