<script setup lang="ts">
import { mdiAlertCircle, mdiCheck, mdiHelpCircleOutline } from '@mdi/js'
import type { FaultDrill, FaultResult } from '@ledgerman/contract'
import { computed } from 'vue'
import RowDifferences from './RowDifferences.vue'

/** The result of each fault: what the caller was told, and whether the rows and the book say the same. */
const props = defineProps<{ drill: FaultDrill }>()
const SIGNS = {
  agrees: { icon: mdiCheck, color: 'success', words: 'the caller, the rows and the book agree' },
  wrong: { icon: mdiAlertCircle, color: 'error', words: 'something is wrong' },
  unstaged: { icon: mdiHelpCircleOutline, color: 'warning', words: 'could not be brought about: it shows nothing' },
}
const signOf = ({ agrees, staged }: FaultResult) => SIGNS[!agrees ? 'wrong' : staged ? 'agrees' : 'unstaged']
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
            :icon="signOf(result).icon"
            :color="signOf(result).color"
            size="small"
            :title="signOf(result).words"
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
