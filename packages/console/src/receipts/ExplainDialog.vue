<script setup lang="ts">
import { ref, watch } from 'vue'
import type { Explained } from '@ledgerman/contract'
import ProblemAlert from '../problems/ProblemAlert.vue'
import StatementView from './StatementView.vue'

/** A statement before it is run: how its rows are found, in plain words, and the database's own plan. */
const props = defineProps<{ explain: () => Promise<Explained> }>()
const isOpen = defineModel<boolean>({ required: true })
const explained = ref<Explained | null>(null)
const problem = ref<unknown>(null)
const VERDICTS = {
  serves: { color: 'success', words: 'An index serves.' },
  partly: { color: 'warning', words: 'Indexes serve in part.' },
  'not used': { color: 'warning', words: 'No index is used.' },
}

watch(isOpen, async (open) => {
  if (!open) return
  explained.value = null
  problem.value = null
  try {
    explained.value = await props.explain()
  } catch (error) {
    problem.value = error
  }
})
</script>

<template>
  <v-dialog v-model="isOpen" max-width="900" scrollable>
    <v-card title="How it is found" data-test="explained">
      <v-card-text>
        <ProblemAlert :problem="problem" />
        <template v-if="explained">
          <v-alert
            border="start"
            :border-color="VERDICTS[explained.index].color"
            density="compact"
            class="mb-3"
            :title="VERDICTS[explained.index].words"
          >
            <div v-for="sentence in explained.message.split('\n')" :key="sentence">{{ sentence }}</div>
          </v-alert>
          <StatementView :step="explained" />
          <h3 class="text-medium-emphasis mt-3 small-note">PostgreSQL's plan</h3>
          <pre class="mono plan" tabindex="0">{{ explained.plan }}</pre>
        </template>
      </v-card-text>
      <v-card-actions><v-spacer /><v-btn @click="isOpen = false">Close</v-btn></v-card-actions>
    </v-card>
  </v-dialog>
</template>

<style scoped>
.plan {
  overflow-x: auto;
}
</style>
